<script lang="ts">
  import type { Caller } from '../../api/callers.ts';
  import Time from '../ui/Time.svelte';

  /** How relayed calls went: counts by class of status, and the last one that failed with its verdict. */
  const { relay }: { relay: Caller['uses'][number]['relay'] } = $props();
  const counts = $derived(
    Object.entries(relay?.by_class ?? {})
      .sort()
      .map(([group, count]) => `${group === 'none' ? 'no answer' : group}: ${count}`),
  );
</script>

{#if relay}
  {@const failed = relay.last_failed}
  <div class="text-sm">{counts.join(', ')}</div>
  {#if failed}
    <div class="text-sm">
      <span class="text-warning font-semibold">{failed.status ?? 'No answer'}</span>
      <code class="break-all">{failed.method} {failed.path}</code>
      <Time at={failed.at} />: {failed.says} <span class="text-base-content/70">{failed.remedy}</span>
    </div>
  {/if}
{/if}
