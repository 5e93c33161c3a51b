<script lang="ts">
  import type { QuotaView } from '../../api/trying.ts';
  import Time from '../ui/Time.svelte';

  /** What is left of each window, and of each caller's share. */
  const { quota }: { quota: QuotaView } = $props();
  const forecast = ({ expected_left: left }: QuotaView['items'][number]) => {
    if (left === null) return 'too early to say';
    return left < 0 ? `${-left} too few at this rate` : `${left} left at this rate`;
  };
</script>

<table class="list-table max-w-4xl">
  <thead
    ><tr><th>Window</th><th>Counted together</th><th class="w-64">Left</th><th class="w-44">Forecast</th><th class="w-32">Resets</th></tr
    ></thead
  >
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
              the provider asked us to wait until <Time at={one.held_until} />
            </div>{/if}</td
        >
        <td data-label="Forecast" class={one.expected_left !== null && one.expected_left < 0 ? 'text-warning font-semibold' : ''}
          >{forecast(one)}</td
        >
        <td data-label="Resets"><Time at={one.resets_at} /></td>
      </tr>
    {/each}
  </tbody>
</table>
<p class="text-sm text-base-content/70 max-w-4xl">{quota.says}</p>
