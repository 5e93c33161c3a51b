<script lang="ts">
  import type { JobPlan } from '../../../api/jobs.ts';
  import type { Problem } from '../../../api/problem.ts';
  import type { JobDraft } from '../../state/job-draft.svelte.ts';
  import Field from '../../ui/Field.svelte';

  /** When a job runs, and what follows from it: the next five runs, and the share of the quota. */
  const { draft, plan, problem }: { draft: JobDraft; plan: JobPlan | null; problem: Problem | null } = $props();
  const zones = Intl.supportedValuesOf('timeZone');
  const shownIn = $derived(draft.kind === 'cron' && zones.includes(draft.zone) ? draft.zone : 'UTC');
  const inZone = (at: string) => new Date(at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short', timeZone: shownIn });
</script>

<fieldset class="mb-3">
  <legend class="font-semibold mb-1">Schedule</legend>
  <div class="flex flex-wrap gap-4">
    <label class="flex gap-2"
      ><input type="radio" class="radio radio-sm" bind:group={draft.kind} value="every" />Every so many minutes</label
    >
    <label class="flex gap-2"><input type="radio" class="radio radio-sm" bind:group={draft.kind} value="cron" />Cron expression</label>
    <label class="flex gap-2"><input type="radio" class="radio radio-sm" bind:group={draft.kind} value="manual" />By hand</label>
  </div>
</fieldset>
{#if draft.kind === 'every'}
  <Field id="minutes" label="Minutes" {problem} path="schedule.minutes"
    ><input id="minutes" type="number" class="input w-32" min="1" max="10080" required bind:value={draft.minutes} /></Field
  >
{:else if draft.kind === 'cron'}
  <div class="flex flex-wrap gap-3">
    <Field
      id="expression"
      label="Cron expression"
      help="Minute, hour, day of month, month, day of week."
      {problem}
      path="schedule.expression"><input id="expression" class="input mono w-56" required bind:value={draft.expression} /></Field
    >
    <Field id="zone" label="Time zone" {problem} path="schedule.zone"
      ><input id="zone" class="input w-56" list="zones" required bind:value={draft.zone} /></Field
    >
    <datalist id="zones"
      >{#each zones as zone (zone)}<option value={zone}></option>{/each}</datalist
    >
  </div>
{/if}
{#if plan}
  <div class="mb-3 border-l-4 border-info pl-3" role="status">
    <p>{plan.says}</p>
    {#if plan.next_runs.length > 0}
      <p class="text-sm text-base-content/70">Next runs ({shownIn}): {plan.next_runs.map(inZone).join('; ')}</p>
    {/if}
  </div>
{/if}
<div class="flex flex-wrap gap-3">
  <Field id="missed" label="Runs missed while nothing ran"
    ><select id="missed" class="select w-56" bind:value={draft.missed}
      ><option value="run_once">Run once afterwards</option><option value="skip">Skip them</option></select
    ></Field
  >
  <Field id="expected" label="At least" help="Fewer records are incomplete."
    ><input id="expected" type="number" class="input w-32" min="0" bind:value={draft.expectedLeast} /></Field
  >
</div>
