<script lang="ts">
  import type { NoticeSeverity } from '../../api/notices.ts';
  import NoticeTable from '../parts/notices/NoticeTable.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  let shown = $state<'open' | 'closed'>('open');
  let severity = $state<NoticeSeverity | ''>('');
  const list = new Query(() => call('listNotices', { query: { state: shown, ...(severity ? { severity } : {}) } }), 5_000);
  $effect(() => {
    void [shown, severity];
    return list.start();
  });
</script>

<Title title="Notices">
  <label class="sr-only" for="notice-state">State</label><select id="notice-state" class="select select-sm w-28" bind:value={shown}
    ><option>open</option><option>closed</option></select
  >
  <label class="sr-only" for="notice-severity">Severity</label><select
    id="notice-severity"
    class="select select-sm w-40"
    bind:value={severity}
    ><option value="">all severities</option><option value="action">action needed</option><option value="warning">warnings</option><option
      value="info">information</option
    ></select
  >
  <a class="btn btn-sm" href="#/settings/channels">Channels</a>
</Title>
<p class="mb-3 text-base-content/70">
  One notice for each cause. It opens and closes automatically; a fixed cause closes it, a click does not.
</p>
<ProblemNote problem={list.problem} />
{#if list.value && list.value.items.length === 0}
  <p>
    {#if shown === 'open'}Nothing needs your attention. To get notices by mail, <a class="link" href="#/settings/channels">add a channel</a
      >.{:else}No notice was closed yet.{/if}
  </p>
{:else if list.value}
  <NoticeTable items={list.value.items} />
  {#if list.value.more}<p class="mt-2">The first {list.value.items.length} are shown.</p>{/if}
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
