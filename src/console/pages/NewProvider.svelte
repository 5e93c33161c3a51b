<script lang="ts">
  import { push } from 'svelte-spa-router';
  import DefinitionFacts from '../parts/DefinitionFacts.svelte';
  import Field from '../parts/Field.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import type { AnswerOf } from '../../api/operations.ts';
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  let text = $state('');
  let checked = $state.raw<AnswerOf<'checkProvider'> | null>(null);
  const doing = new Doing();
  const check = () => doing.run(async () => { checked = await call('checkProvider', { body: { document: text } }); });
  const take = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    text = await file.text();
    checked = null;
    await check();
  };
  const add = () =>
    doing.run(async () => {
      const added = await call('addProvider', { body: { document: text } });
      await push(`/providers/${added.name}/clients/new`);
    });
</script>

<Title title="Add a provider" up={{ href: '#/providers', name: 'Providers' }} />
<div class="max-w-3xl">
  <Field id="file" label="Definition file" help="YAML or JSON. It is read and checked; nothing is saved yet."><input id="file" type="file" class="file-input w-full" accept=".yaml,.yml,.json" onchange={take} /></Field>
  <Field id="text" label="Or paste it"><textarea id="text" class="textarea w-full mono h-48 whitespace-pre" spellcheck="false" bind:value={text} oninput={() => (checked = null)}></textarea></Field>
  <ProblemNote problem={doing.problem} />
  {#if checked}
    <section class="panel px-4 py-3 mb-3" aria-label="What it says">
      <h2 class="mb-1">{checked.definition.title}</h2>
      <DefinitionFacts definition={checked.definition} />
      {#if checked.exists}<p class="text-error font-semibold mt-2">A provider called {checked.definition.name} exists already.</p>{/if}
    </section>
    <button class="btn btn-primary" disabled={doing.busy || checked.exists} onclick={add}>Add {checked.definition.title}</button>
  {:else}<button class="btn" disabled={doing.busy || !text.trim()} onclick={check}>Check it</button>{/if}
</div>
