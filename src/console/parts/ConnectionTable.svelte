<script lang="ts">
  import type { ConnectionSummary } from '../../api/connections.ts';
  import LifeLine from './LifeLine.svelte';
  import Moment from './Moment.svelte';
  import RehearsalMark from './RehearsalMark.svelte';
  import StateMark from './StateMark.svelte';

  const { items }: { items: ConnectionSummary[] } = $props();
</script>

<div class="overflow-x-auto">
  <table class="list-table">
    <thead
      ><tr
        ><th>Connection</th><th>State</th><th>Account</th><th>Client</th><th class="w-64">Life of the token</th><th class="w-24">Expires</th
        ><th class="w-20 text-right">Renewed</th></tr
      ></thead
    >
    <tbody>
      {#each items as one (one.name)}
        <tr>
          <td class="font-semibold"
            ><a class="link" href={`#/connections/${one.name}`}>{one.name}</a>{#if one.labels.length > 0}<div
                class="text-sm font-normal text-base-content/70"
              >
                {one.labels.join(', ')}
              </div>{/if}</td
          >
          <td
            ><StateMark state={one.state} />{#if one.cause}<div class="text-sm max-w-64">{one.cause}</div>{/if}</td
          >
          <td class="break-all">{one.account ?? '–'}</td>
          <td
            ><a class="link" href={`#/providers/${one.provider}/clients/${one.client}`}>{one.provider_title}/{one.client}</a>
            <span class="text-sm text-base-content/70">{one.environment}</span>{#if one.rehearsal}{' '}<RehearsalMark />{/if}</td
          >
          <td><LifeLine life={one.life} /></td>
          <td><Moment at={one.life?.expires_at ?? null} /></td>
          <td class="text-right tabular-nums">{one.renewals}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
