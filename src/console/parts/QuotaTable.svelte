<script lang="ts">
  import type { QuotaView } from '../../api/trying.ts';
  import Moment from './Moment.svelte';

  /** What is left of each window, and of each caller's share. */
  const { quota }: { quota: QuotaView } = $props();
</script>

<table class="list-table max-w-4xl">
  <thead><tr><th>Window</th><th>Counted together</th><th class="w-64">Left</th><th class="w-32">Resets</th></tr></thead>
  <tbody>
    {#each quota.items as one, at (at)}
      <tr>
        <td data-label="Window">{one.says} <span class="text-base-content/70">{one.api}</span></td>
        <td data-label="Counted together"
          >{one.caller ? `${one.caller}’s share` : one.of === 'client' ? 'all calls of this client' : 'all calls of this connection'}</td
        >
        <td data-label="Left"
          ><span class="inline-flex items-center gap-2"
            ><span class="tabular-nums w-14 text-right">{one.left}</span><span class="inline-block h-2 w-32 bg-base-300"
              ><span
                class={['block h-2', one.left * 5 < one.most ? 'bg-warning' : 'bg-success']}
                style={`width:${(100 * one.left) / one.most}%`}
              ></span></span
            ></span
          >{#if one.held_until}<div class="text-sm text-warning">
              the provider asked us to wait until <Moment at={one.held_until} />
            </div>{/if}</td
        >
        <td data-label="Resets"><Moment at={one.resets_at} /></td>
      </tr>
    {/each}
  </tbody>
</table>
<p class="text-sm text-base-content/70 max-w-4xl">{quota.says}</p>
