<script lang="ts">
  import type { JobPlan } from '../../../api/jobs.ts';
  import type { BodyOf } from '../../../api/operations.ts';
  import type { Problem } from '../../../api/problem.ts';
  import type { JobDraft } from '../../state/job-draft.svelte.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call, problemOf } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Form from '../../ui/Form.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import ColumnChoice from './ColumnChoice.svelte';
  import ScheduleFields from './ScheduleFields.svelte';

  /** A job's settings. What the form does not show stays as it is. */
  interface Props {
    draft: JobDraft;
    isNew: boolean;
    save(): Promise<void>;
  }
  const { draft, isNew, save }: Props = $props();
  const saving = new Action();
  let plan = $state.raw<JobPlan | null>(null);
  const PAUSE_MS = 300;
  let planProblem = $state.raw<Problem | null>(null);
  let round = 0;
  /** The newest question counts: an answer to an earlier one is dropped. */
  async function look(body: BodyOf<'planJob'>): Promise<void> {
    round += 1;
    const mine = round;
    try {
      const found = await call('planJob', { body });
      if (mine === round) [plan, planProblem] = [found, null];
    } catch (error) {
      if (mine === round) planProblem = problemOf(error);
    }
  }
  // What will come of the schedule is asked for once typing is over.
  $effect(() => {
    const body = { ...draft.settings(), connection: draft.connection };
    const timer = setTimeout(() => void look(body), PAUSE_MS);
    return () => clearTimeout(timer);
  });
  const problem = $derived(saving.problem ?? planProblem);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(save);
  };
</script>

<Form {saving} onsubmit={submit} class="max-w-4xl" aria-label="Settings of the job">
  <div class="flex flex-wrap gap-3">
    {#if isNew}
      <Field id="job-name" label="Name" problem={saving.problem} path="name" help="Part of the address of its result."
        ><input
          id="job-name"
          class="input mono w-56"
          required
          pattern="[a-z0-9][a-z0-9._\-]*"
          maxlength="63"
          bind:value={draft.name}
        /></Field
      >
    {/if}
    <Field id="job-title" label="Title" problem={saving.problem} path="title" help="Optional; for people."
      ><input id="job-title" class="input w-72" maxlength="120" bind:value={draft.title} /></Field
    >
  </div>
  <ScheduleFields {draft} {plan} {problem} />
  <ColumnChoice {draft} />
  <fieldset class="mb-3">
    <legend class="font-semibold mb-1">Also delivered to</legend>
    <p class="text-sm text-base-content/70 mb-2">The result is always kept here, at one stable address.</p>
    <Field
      id="job-file"
      label="File"
      problem={saving.problem}
      path="deliver"
      help={'Below the output folder; {job}, {date}, {time} and {run} are filled in.'}
      ><input id="job-file" class="input mono w-full" placeholder={'{job}.csv'} bind:value={draft.file} /></Field
    >
    <div class="flex flex-wrap gap-3">
      <Field id="job-post" label="POST to" help="Retried for a day and a half while the application is down."
        ><input id="job-post" type="url" class="input mono w-96" bind:value={draft.post} /></Field
      >
      <Field id="job-format" label="As"
        ><select id="job-format" class="select w-32" bind:value={draft.postFormat}
          ><option value="json">JSON</option><option value="ndjson">NDJSON</option><option value="csv">CSV</option></select
        ></Field
      >
      <Field id="job-secret" label="Signing secret" help="Write-only. Empty: as it is."
        ><input id="job-secret" type="password" class="input w-56" minlength="24" autocomplete="off" bind:value={draft.secret} /></Field
      >
    </div>
  </fieldset>
  <label class="flex items-center gap-2 mb-3"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={draft.enabled} />Run by the schedule</label
  >
  <ProblemNote problem={saving.problem} />
  <button class="btn btn-primary btn-sm" disabled={saving.busy}>{saving.busy ? 'Saving…' : isNew ? 'Save job' : 'Save settings'}</button>
</Form>
