<script lang="ts">
  import Chart from '../ui/Chart.svelte';
  import { RENEWALS, USES } from '../ui/chart.ts';
  import { Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  /** The last 24 hours as charts: of all, of one connection, or of one caller. */
  const { of = {} }: { of?: { connection?: string; caller?: string } } = $props();
  const loaded = new Query(() => call('showStatistics', { query: { hours: 24, ...of } }), 10_000);
  $effect(() => {
    void of;
    return loaded.start();
  });
</script>

{#if loaded.value}
  <div class={['grid gap-6', of.caller === undefined && 'lg:grid-cols-2']}>
    {#if of.caller === undefined}<Chart title="Renewals" hours={loaded.value.items} series={RENEWALS} />{/if}
    <Chart title="Use" hours={loaded.value.items} series={USES} />
  </div>
{/if}
