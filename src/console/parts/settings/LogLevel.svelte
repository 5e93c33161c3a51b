<script lang="ts">
  import { LOG_LEVELS } from '../../../api/choices.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Form from '../../ui/Form.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** How much the log says, for a while: more while something is looked into. */
  const now = new Query(() => call('showLogLevel'), 5_000);
  $effect(() => now.start());
  const saving = new Action();
  let level = $state<(typeof LOG_LEVELS)[number]>('debug');
  let minutes = $state(30);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      await call('setLogLevel', { body: { level, minutes } });
      await now.load();
    });
  };
</script>

<section class="max-w-2xl" aria-labelledby="log-level">
  <h2 id="log-level">Log level</h2>
  <p class="mb-3">
    The service logs to standard error. A changed level applies to all running replicas, for a limited time. Then the configured level
    applies again.
  </p>
  <ProblemNote problem={now.problem ?? saving.problem} />
  {#if now.value}
    <dl class="facts mb-4">
      <dt>Level now</dt>
      <dd>
        {now.value.level}{#if now.value.until}, until <Time at={now.value.until} />{/if}
      </dd>
      <dt>Configured</dt>
      <dd>{now.value.usual}</dd>
    </dl>
  {/if}
  <Form {saving} onsubmit={submit} class="flex flex-wrap items-end gap-3">
    <label class="flex flex-col text-sm"
      >Level<select class="select select-sm w-32" bind:value={level}
        >{#each LOG_LEVELS as one (one)}<option>{one}</option>{/each}</select
      ></label
    >
    <label class="flex flex-col text-sm"
      >Minutes<input class="input input-sm w-24" type="number" min="1" max="1440" required bind:value={minutes} /></label
    >
    <button class="btn btn-sm btn-primary" disabled={saving.busy}>Change log level</button>
  </Form>
</section>
