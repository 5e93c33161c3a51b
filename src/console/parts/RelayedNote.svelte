<script lang="ts">
  import type { Caller } from '../../api/callers.ts';
  import Moment from './Moment.svelte';

  /** How relayed calls went: counts by class of status, and the last one that failed with its verdict. */
  const { relay }: { relay: Caller['uses'][number]['relay'] } = $props();
</script>

{#if relay}
  <div class="text-sm">{Object.entries(relay.by_class).sort().map(([group, count]) => `${group === 'none' ? 'no answer' : group}: ${count}`).join(', ')}</div>
  {#if relay.last_failed}<div class="text-sm"><span class="text-warning font-semibold">{relay.last_failed.status ?? 'No answer'}</span> <code class="break-all">{relay.last_failed.method} {relay.last_failed.path}</code> <Moment at={relay.last_failed.at} />: {relay.last_failed.says} <span class="text-base-content/70">{relay.last_failed.remedy}</span></div>{/if}
{/if}
