<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { push } from 'svelte-spa-router';
  import type { DraftedProvider } from '../../api/providers.ts';
  import DraftReview from '../parts/DraftReview.svelte';
  import Source from '../parts/provider/Source.svelte';
  import Field from '../ui/Field.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action } from '../state/query.svelte.ts';
  import { PROVIDER_WAYS, ProviderDraft, type ProviderWay } from '../state/provider-draft.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const draft = new ProviderDraft();
  let drafted = $state.raw<DraftedProvider | null>(null);
  let text = $state('');
  const doing = new Action();
  const make = (event?: Event) => {
    event?.preventDefault();
    return doing.run(async () => {
      drafted = await call('draftProvider', { body: draft.body() });
      text = drafted.document;
    });
  };
  const again = () =>
    doing.run(async () => {
      drafted = await call('draftProvider', { body: { from: 'definition', document: text } });
    });
  const add = () =>
    doing.run(async () => {
      const added = await call('addProvider', { body: { document: text } });
      await push(`/providers/${added.name}/clients/new`);
    });
  const choose = (to: string) => {
    draft.way = to as ProviderWay;
    drafted = null;
    doing.problem = null;
  };
</script>

<Title title="Add a provider" up={{ href: '#/providers', name: 'Providers' }} />
<div class="max-w-4xl">
  <fieldset class="mb-4">
    <legend class="font-semibold mb-1">How do you want to describe the provider?</legend>
    <div class="flex flex-wrap gap-x-6 gap-y-1">
      {#each Object.entries(PROVIDER_WAYS) as [key, says] (key)}<label class="flex items-center gap-2"
          ><input type="radio" class="radio radio-sm" name="way" checked={draft.way === key} onchange={() => choose(key)} />{says}</label
        >{/each}
    </div>
  </fieldset>
  <Form saving={doing} onsubmit={make} class="mb-4">
    <Source {draft} read={make} />
    {#if draft.way !== 'definition'}
      <details class="mb-3">
        <summary class="cursor-pointer">Name and title</summary>
        <div class="grid md:grid-cols-2 gap-x-4 mt-2">
          <Field
            id="name"
            problem={doing.problem}
            path="name"
            label="Name"
            help="In addresses and commands; it never changes. Left empty: made from the address."
            ><input id="name" class="input w-full mono" pattern="[a-z][a-z0-9\-]*" maxlength="41" bind:value={draft.name} /></Field
          >
          <Field id="title" problem={doing.problem} path="title" label="Title"
            ><input id="title" class="input w-full" maxlength="80" bind:value={draft.title} /></Field
          >
        </div>
      </details>
    {/if}
    <button class={['btn', !drafted && 'btn-primary']} disabled={doing.busy}>{doing.busy ? 'Loading…' : 'Check it'}</button>
  </Form>
  <ProblemNote problem={doing.problem} />
  {#if drafted}
    <section class="panel px-4 py-3 mb-3" aria-label="What it shows"><DraftReview draft={drafted} /></section>
    <details class="mb-3">
      <summary class="cursor-pointer font-semibold">The definition, to be changed</summary>
      <textarea class="textarea w-full mono h-80 whitespace-pre mt-2" aria-label="Definition" spellcheck="false" bind:value={text}
      ></textarea>
      <button class="btn btn-sm mt-1" disabled={doing.busy} onclick={again}>Check the changes</button>
    </details>
    {#if drafted.exists}<p class="text-error font-semibold mb-2">
        A provider of this name exists already: open its page to change its definition, or choose another name.
      </p>{/if}
    <button class="btn btn-primary" disabled={doing.busy || drafted.exists || drafted.wrong.length > 0 || !drafted.ready} onclick={add}
      >Add {drafted.values.find((one) => one.path === 'title')?.value ?? 'it'}</button
    >
  {/if}
</div>
