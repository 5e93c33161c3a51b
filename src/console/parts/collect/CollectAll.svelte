<script lang="ts">
  import Layers from '@lucide/svelte/icons/layers';
  import { push } from 'svelte-spa-router';
  import type { Recognized } from '../../../api/jobs.ts';
  import type { ComposedCall } from '../../../api/trying.ts';
  import { Collecting, isOver, progressInWords } from '../../state/collecting.svelte.ts';
  import { handed, JobDraft } from '../../state/job-draft.svelte.ts';
  import { call as api } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import PagingChoice from './PagingChoice.svelte';
  import PreviewTable from './PreviewTable.svelte';
  import Verdict from './Verdict.svelte';

  /** All pages of a call: the paging is shown with its evidence, followed once someone confirms it, and the result can become a job. */
  interface Props {
    connection: string;
    call: ComposedCall;
    /** The name under which this call is saved, as it stands. */
    saved: string | null;
    values: Record<string, string>;
    disabled: boolean;
    /** Called with the paging that someone confirmed: it is kept when the call is saved. */
    confirmed: (paging: Recognized['declared']) => void;
  }
  const { connection, call, saved, values, disabled, confirmed }: Props = $props();
  const c = new Collecting(api);
  const what = $derived({ connection, call, saved, values });
  let days = $state(90);
  $effect(() => () => c.stop());
  const needsDays = $derived(c.plan?.slice !== undefined);
  const isRunning = $derived(c.run !== null && !isOver(c.run));
  const start = async () => {
    await c.start(what, needsDays ? days : null);
    confirmed(c.confirmed);
  };
  const saveAsJob = () => {
    const settings = { call, values, paging: c.plan, range: needsDays ? { days } : null };
    handed.draft = JobDraft.from(connection, settings, c.run?.columns ?? []);
    void push('/jobs/new');
  };
</script>

<section aria-labelledby="collect-all" class="mt-4">
  <div class="flex items-center gap-3 mb-2">
    <h2 id="collect-all">All pages</h2>
    <button class="btn btn-sm" disabled={disabled || c.doing.busy || isRunning} onclick={() => c.recognize(what)}
      ><Layers size={15} aria-hidden="true" />Collect all pages</button
    >
  </div>
  <ProblemNote problem={c.doing.problem} />
  {#if c.found && !c.run}
    <div class="panel px-4 py-3">
      <PagingChoice found={c.found} bind:chosen={c.chosen} useList={(at) => c.recognize(what, at)} />
      {#if needsDays}<Field id="days" label="How many days back" help="This list is cut by date where the provider caps it."
          ><input id="days" type="number" class="input w-32" min="1" max="3660" bind:value={days} /></Field
        >{/if}
      <button class="btn btn-primary btn-sm" disabled={c.doing.busy} onclick={start}>Confirm and collect</button>
    </div>
  {:else if c.run}
    {#if isRunning}
      <p class="font-semibold mb-1" aria-live="polite">{c.run.waits?.says ?? progressInWords(c.run)}</p>
      <progress class="progress progress-primary w-full mb-2" max="1" value={c.part ?? undefined} aria-label="Records collected"></progress>
      <button class="btn btn-sm" disabled={c.doing.busy} onclick={() => c.cancel()}>Cancel the run</button>
    {:else}
      <Verdict run={c.run} />
      {#if c.run.state === 'done'}
        <p class="flex flex-wrap items-center gap-2 mb-2">
          <button class="btn btn-primary btn-sm" onclick={saveAsJob}>Save as job</button>
          {#each ['csv', 'ndjson', 'json'] as format (format)}<a
              class="btn btn-sm"
              href={`/api/v1/runs/${c.run.id}/result.${format}`}
              download>Download {format.toUpperCase()}</a
            >{/each}
        </p>
        {#if c.preview}<PreviewTable preview={c.preview} />{/if}
      {/if}
    {/if}
  {/if}
</section>
