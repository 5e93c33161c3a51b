<script lang="ts">
  import { onMount } from 'svelte';
  import CauseTable from '../parts/CauseTable.svelte';
  import ConnectionTable from '../parts/ConnectionTable.svelte';
  import FirstSteps from '../parts/FirstSteps.svelte';
  import HeldNote from '../parts/HeldNote.svelte';
  import RefusedWritesNote from '../parts/RefusedWritesNote.svelte';
  import Breakdown from '../parts/overview/Breakdown.svelte';
  import Operation from '../parts/overview/Operation.svelte';
  import NoticeTable from '../parts/notices/NoticeTable.svelte';
  import StateCounts from '../parts/overview/StateCounts.svelte';
  import Waiting from '../parts/overview/Waiting.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Statistics from '../parts/Statistics.svelte';
  import Title from '../parts/Title.svelte';
  import { Query } from '../state/query.svelte.ts';
  import { openNotices } from '../state/notices.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const SOON_SHOWN = 8;
  const NOTICES_SHOWN = 8;
  const status = new Query(() => call('showStatus'), 2_000);
  const working = new Query(() => call('listConnections', { query: { state: 'working', limit: SOON_SHOWN } }), 2_000);
  onMount(() => {
    const stops = [status.start(), working.start()];
    return () => stops.forEach((stop) => stop());
  });
  const s = $derived(status.value);
  const notices = $derived(openNotices.value?.items ?? []);
  /** Causes that stand above already are not told twice. */
  const untold = $derived(s?.groups.filter((group) => !group.has_notice) ?? []);
  const hasGroups = $derived(untold.some((group) => group.count > 1));
  const inAll = $derived(s?.groups.reduce((sum, group) => sum + group.count, 0) ?? 0);
</script>

<Title title="Overview" />
<ProblemNote problem={status.problem} />
{#if s}
  <StateCounts connections={s.connections} />
  {#if s.installation.held && !s.installation.practice}<HeldNote installation={s.installation} done={() => status.load()} />{/if}
  {#if s.installation.writes_refused}<RefusedWritesNote refused={s.installation.writes_refused} />{/if}
  <FirstSteps status={s} />
  {#if notices.length > 0}
    <section class="mb-6" aria-labelledby="notices">
      <h2 id="notices" class="mb-1">Notices</h2>
      <NoticeTable items={notices} most={NOTICES_SHOWN} />
      {#if notices.length > NOTICES_SHOWN}<p class="mt-1"><a class="link" href="#/notices">All {notices.length} notices</a></p>{/if}
    </section>
  {/if}
  {#if hasGroups}<CauseTable groups={untold} />{/if}
  {#if s.connections.total > 0}
    <section class="mb-6" aria-labelledby="day">
      <h2 id="day" class="mb-1">Last 24 hours</h2>
      <Statistics />
      <Breakdown />
    </section>
  {/if}
  {#if s.connections.total > 0}
    <section class="mb-6" aria-labelledby="attention">
      <h2 id="attention" class="mb-1">Action needed and degraded</h2>
      {#if s.attention.length === 0}<p class="text-base-content/70">All connections are working.</p>
      {:else}
        <ConnectionTable items={s.attention} />
        {#if inAll > s.attention.length}<p class="mt-1">
            The first {s.attention.length} of {inAll}.
            <a class="link" href="#/connections?state=action_needed">Show all that need action</a>
          </p>{/if}
      {/if}
    </section>
  {/if}
  <Waiting status={s} />
  {#if working.value && working.value.items.length > 0}
    <section class="mb-6" aria-labelledby="working">
      <h2 id="working" class="mb-1">Working</h2>
      <ConnectionTable items={working.value.items} />
      {#if working.value.total > SOON_SHOWN}<p class="mt-1">
          <a class="link" href="#/connections">All {s.connections.total} connections</a>
        </p>{/if}
    </section>
  {/if}
  <Operation status={s} />
{:else if !status.problem}<p aria-busy="true">Loading…</p>{/if}
