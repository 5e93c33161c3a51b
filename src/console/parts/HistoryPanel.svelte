<script lang="ts">
  import { untrack } from 'svelte';
  import type { HistoryEntry } from '../../api/common.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import HistoryList from './HistoryList.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** The history of one thing, or of all: newest entries, and older ones on demand. `version`: changes when it is to be read again. */
  const { subject = '', version = null }: { subject?: string; version?: unknown } = $props();
  const SHOWN = 30;
  let renewals = $state(false);
  let older = $state.raw<HistoryEntry[]>([]);
  let isMore = $state(false);
  const query = (before?: string) => ({
    ...(subject !== '' && { subject }),
    limit: SHOWN,
    ...(renewals && { renewals: 'true' as const }),
    ...(before && { before }),
  });
  const newest = new Query(() => call('listHistory', { query: query() }), 4_000);
  const reading = new Action();
  $effect(() => {
    void [subject, renewals];
    return untrack(() => {
      older = [];
      isMore = false;
      return newest.start();
    });
  });
  $effect(() => {
    if (version) untrack(() => void newest.load());
  });
  const more = () =>
    reading.run(async () => {
      const last = older.at(-1) ?? newest.value?.items.at(-1);
      if (!last) return;
      const found = await call('listHistory', { query: query(last.id) });
      older = [...older, ...found.items];
      isMore = found.more;
    });
  // While older ones stand below, new entries on top push none of them away: each is shown once.
  const items = $derived.by(() => {
    const top = newest.value?.items ?? [];
    const known = new Set(older.map((one) => one.id));
    return [...top.filter((one) => !known.has(one.id)), ...older];
  });
</script>

<ProblemNote problem={newest.problem ?? reading.problem} />
<HistoryList {items} withSubject={subject === ''} />
<p class="flex flex-wrap items-center gap-4 mt-1">
  {#if older.length > 0 ? isMore : newest.value?.more}
    <button class="btn btn-xs" disabled={reading.busy} onclick={more}>Show older</button>
  {/if}
  {#if subject === '' || subject.startsWith('connection:')}
    <label class="flex items-center gap-2 text-sm">
      <input type="checkbox" class="checkbox checkbox-xs" bind:checked={renewals} />Include routine renewals
    </label>
  {/if}
</p>
