<script lang="ts">
  import Form from '../../ui/Form.svelte';
  import { onMount } from 'svelte';
  import type { Answers } from '../../../api/clients.ts';
  import Field from '../../ui/Field.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';

  /** What is said once for the whole installation. */
  const loaded = new Query(() => call('showAnswers'));
  onMount(() => loaded.start());
  let edited = $state<Partial<Answers>>({});
  let saved = $state('');
  const saving = new Action();
  const FIELDS: [keyof Answers, string, string][] = [
    ['organization', 'Organization', 'Who we are, as forms ask for it.'],
    ['purpose', 'Purpose', 'What the integrations do with the data, in a sentence or two.'],
    ['contact', 'Contact', 'An address that someone reads.'],
    ['platform', 'Platform', 'On what it runs.'],
    ['home_page', 'Home page', ''],
    ['privacy_page', 'Privacy page', ''],
    ['terms_page', 'Terms page', ''],
  ];
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      saved = '';
      await call('changeAnswers', { body: $state.snapshot(edited) });
      edited = {};
      await loaded.load();
      saved = 'Saved. They are offered in every guide and form.';
    });
  };
</script>

<ProblemNote problem={loaded.problem} />
{#if loaded.value}
  {@const answers = loaded.value}
  <section class="max-w-2xl" aria-labelledby="answers">
    <h2 id="answers">Answers for forms</h2>
    <p class="mb-3">
      Providers ask the same things again and again. What is answered here is offered in each guide and each access request form, to be
      copied; what was sent is kept with the client.
    </p>
    <Form {saving} onsubmit={submit}>
      {#each FIELDS as [name, label, help] (name)}
        <Field id={name} {label} {help}
          >{#if name === 'purpose'}<textarea
              id={name}
              class="textarea w-full h-20"
              maxlength="2000"
              value={edited[name] ?? answers[name]}
              oninput={(event) => (edited[name] = event.currentTarget.value)}></textarea>{:else}<input
              id={name}
              class="input w-full"
              maxlength="2000"
              value={edited[name] ?? answers[name]}
              oninput={(event) => (edited[name] = event.currentTarget.value)}
            />{/if}</Field
        >
      {/each}
      <ProblemNote problem={saving.problem} />
      <button class="btn btn-primary btn-sm" disabled={saving.busy || Object.keys(edited).length === 0}>Save</button>
      <span role="status" class="text-success font-semibold">{saved}</span>
    </Form>
  </section>
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
