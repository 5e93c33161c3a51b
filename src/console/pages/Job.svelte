<script lang="ts">
  import Play from '@lucide/svelte/icons/play';
  import { push } from 'svelte-spa-router';
  import PreviewTable from '../parts/collect/PreviewTable.svelte';
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import JobFacts from '../parts/job/JobFacts.svelte';
  import JobForm from '../parts/job/JobForm.svelte';
  import RunBars from '../parts/job/RunBars.svelte';
  import RunTable from '../parts/job/RunTable.svelte';
  import MaskedNote from '../parts/MaskedNote.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { isOver } from '../state/collecting.svelte.ts';
  import { JobDraft } from '../state/job-draft.svelte.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Confirm from '../ui/Confirm.svelte';
  import Menu from '../ui/Menu.svelte';
  import Tabs from '../ui/Tabs.svelte';
  import { tabOf } from '../ui/tabs.ts';

  const { params }: { params: { job: string; tab: string | null } } = $props();
  const name = $derived(params.job);
  const loaded = new Query(() => call('showJob', { params: { job: name } }), 1_000);
  const runs = new Query(() => call('listRuns', { params: { job: name }, query: { limit: 60 } }), 1_000);
  $effect(() => {
    void name;
    const stops = [loaded.start(), runs.start()];
    return () => stops.forEach((stop) => stop());
  });
  const j = $derived(loaded.value);
  const items = $derived(runs.value?.items ?? []);
  const last = $derived(items[0] ?? null);
  const isRunning = $derived(last !== null && !isOver(last));
  const served = $derived(items.find((run) => run.number === j?.latest?.run) ?? items.find((run) => run.state === 'done') ?? null);
  const preview = new Query(async () => (served ? call('previewRun', { params: { run: served.id }, query: { limit: 100 } }) : null));
  $effect(() => {
    if (tab === 'result' && served) void preview.load();
  });
  let isRemoving = $state(false);
  const doing = new Action();
  const again = async () => void (await Promise.all([loaded.load(), runs.load()]));
  const act = (work: () => Promise<unknown>) =>
    doing.run(async () => {
      await work();
      await again();
    });
  const remove = () =>
    doing.run(async () => {
      await call('removeJob', { params: { job: name } });
      await push('/jobs');
    });
  const tabs = $derived([
    { id: 'runs', label: 'Runs' },
    { id: 'result', label: 'Result', ...(j?.latest && { note: j.latest.records.toLocaleString('en-US') }) },
    { id: 'settings', label: 'Settings' },
    { id: 'activity', label: 'Activity' },
  ]);
  const tab = $derived(tabOf(tabs, params.tab));
  let draft = $state.raw<JobDraft | null>(null);
  let draftOf = $state(0);
  // The form keeps what is typed: it starts again only for another revision of the job.
  $effect(() => {
    if (!j || j.revision === draftOf) return;
    draftOf = j.revision;
    draft = JobDraft.of(j, served?.columns ?? []);
  });
  const showValues = () =>
    doing.run(async () => {
      if (j) draft = JobDraft.of({ ...j, settings: await call('showJobValues', { params: { job: name } }) }, served?.columns ?? []);
    });
  const save = async () => {
    if (!draft || !j) return;
    const secret = draft.secret === '' ? {} : { signing_secret: draft.secret };
    await call('changeJob', { params: { job: name }, body: { ...draft.settings(), ...secret, revision: draftOf } });
    await again();
  };
</script>

<Title title={name} up={{ href: '#/jobs', name: 'Jobs' }}>
  {#if last && isRunning}
    {#if last.state === 'waiting'}<button class="btn btn-sm" onclick={() => act(() => call('resumeRun', { params: { run: last.id } }))}
        >Resume now</button
      >{/if}
    <button class="btn btn-sm" onclick={() => act(() => call('cancelRun', { params: { run: last.id } }))}>Cancel run</button>
  {:else}
    {#if last?.state === 'failed'}<button class="btn btn-sm" onclick={() => act(() => call('resumeRun', { params: { run: last.id } }))}
        >Resume run</button
      >{/if}
    <button class="btn btn-primary btn-sm" disabled={doing.busy} onclick={() => act(() => call('runJob', { params: { job: name } }))}
      ><Play size={15} aria-hidden="true" />Run now</button
    >
  {/if}
  <Menu items={[{ label: 'Remove…', destructive: true, run: () => (isRemoving = true) }]} />
</Title>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if j}
  <JobFacts job={j} />
  <Tabs base={`/jobs/${j.name}`} {tabs} current={tab} />
  {#if tab === 'runs'}
    <h2 class="sr-only">Runs</h2>
    {#if items.length === 0}<p>No runs yet. {j.next_run_at ? 'The first one is due soon.' : 'Choose Run now.'}</p>
    {:else}<RunBars runs={items} /><RunTable runs={items} />{/if}
  {:else if tab === 'result'}
    <h2 class="sr-only">Result</h2>
    {#if preview.value}<PreviewTable preview={preview.value} />{:else}<p>No complete result yet.</p>{/if}
  {:else if tab === 'settings'}
    <h2 class="sr-only">Settings</h2>
    <MaskedNote name={draft?.isMasked ? name : null} busy={doing.busy} show={showValues} />
    {#if draft}<JobForm {draft} isNew={false} {save} />{/if}
  {:else}<HistoryPanel subject={`job:${name}`} version={items.length} />{/if}
  <Confirm bind:open={isRemoving} title={`Remove ${j.name}?`} action="Remove" busy={doing.busy} problem={doing.problem} run={remove}>
    <p>Its runs and results are removed, and <code class="break-all">{j.data_url}</code> stops answering.</p>
  </Confirm>
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
