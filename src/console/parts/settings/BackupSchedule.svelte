<script lang="ts">
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  const plan = new Query(() => call('showBackupPlan'), 10_000);
  $effect(() => plan.start());
  const practice = new Query(() => call('showPractice'), 30_000);
  $effect(() => practice.start());
  let editing = $state(false);
  let [every, keep, recipient, results] = $state([24, 14, '', false] as [number, number, string, boolean]);
  const doing = new Action();
  const edit = () => {
    const now = plan.value?.plan;
    if (now) [every, keep, recipient, results] = [now.every_hours, now.keep, now.recipient, now.results];
    editing = true;
  };
  const save = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('setBackupPlan', { body: { every_hours: every, keep, recipient, results } });
      editing = false;
      await plan.load();
    });
  };
  const end = () =>
    doing.run(async () => {
      await call('removeBackupPlan');
      editing = false;
      await plan.load();
    });
</script>

<ProblemNote problem={plan.problem ?? doing.problem} />
{#if plan.value}
  {@const now = plan.value}
  <dl class="facts max-w-2xl">
    <dt>Schedule</dt>
    <dd>
      {now.plan ? `every ${now.plan.every_hours} hours, ${now.plan.keep} are kept` : 'none'}
      <button class="btn btn-xs ml-2" onclick={edit}>{now.plan ? 'Change' : 'Set a schedule'}</button>
      {#if now.plan}<button class="btn btn-xs" disabled={doing.busy} onclick={end}>End</button>{/if}
    </dd>
    <dt>Last good backup</dt>
    <dd>
      {#if now.last_good_at}<Time at={now.last_good_at} />{:else}<span class="text-warning font-semibold">none</span>{/if}
    </dd>
    {#if now.next_at}
      <dt>Next</dt>
      <dd>
        {#if Date.parse(now.next_at) > Date.now()}<Time at={now.next_at} />{:else}now{/if}
      </dd>
    {/if}
    <dt>Last practice restore</dt>
    <dd>
      {#if practice.value?.last}
        <Time at={practice.value.last.at} />:
        {#if practice.value.last.good}<span class="text-success">good</span>{:else}
          <span class="text-error font-semibold">failed</span> {practice.value.last.faults.join(' ')}{/if}
      {:else}none. Run <code>rk restore --practice --check FOLDER --report</code> where the private key is.{/if}
    </dd>
    <dt>Folder</dt>
    <dd class="mono">{now.folder}</dd>
  </dl>
{/if}
{#if editing}
  <form class="panel px-4 py-3 my-3 max-w-xl" onsubmit={save}>
    <div class="flex gap-3">
      <Field id="backup-every" label="Every (hours)"
        ><input id="backup-every" type="number" min="1" max="744" class="input w-28" required bind:value={every} /></Field
      >
      <Field id="backup-keep" label="Keep"
        ><input id="backup-keep" type="number" min="1" max="1000" class="input w-28" required bind:value={keep} /></Field
      >
    </div>
    <Field id="backup-recipient" label="Public key (PEM)" help="Whoever has its private key can restore; keep that away from this machine"
      ><textarea id="backup-recipient" class="textarea w-full mono" rows="4" required bind:value={recipient}></textarea></Field
    >
    <label class="flex gap-2 items-center mb-3"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={results} />With what jobs collected</label
    >
    <button class="btn btn-primary btn-sm" disabled={doing.busy}>Save</button>
    <button type="button" class="btn btn-sm" onclick={() => (editing = false)}>Cancel</button>
  </form>
{/if}
