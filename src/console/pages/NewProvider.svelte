<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { push } from 'svelte-spa-router';
  import type { DraftedProvider } from '../../api/providers.ts';
  import type { BodyOf } from '../../api/operations.ts';
  import DraftReview from '../parts/DraftReview.svelte';
  import Field from '../ui/Field.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  /** Four ways in; each ends in a definition that can be looked at, changed, and added. */
  const WAYS = {
    issuer: 'Issuer or metadata',
    openapi: 'OpenAPI document',
    short_form: 'Four fields',
    definition: 'Definition file',
  } as const;
  let way = $state<keyof typeof WAYS>('issuer');
  let form = $state({
    address: '',
    api_call: '',
    authorization_url: '',
    token_url: '',
    scopes: '',
    document: '',
    name: '',
    title: '',
    method: '' as '' | 'client_secret_basic' | 'client_secret_post' | 'private_key_jwt' | 'none',
    delimiter: ' ' as ' ' | ',' | ';' | '+',
    authorization: '',
    token: '',
  });
  /** name=value, a line or an & apart. */
  const pairs = (typed: string) =>
    Object.fromEntries(
      typed
        .split(/[&\n]+/)
        .map((one) => one.trim())
        .filter(Boolean)
        .map((one) => (one.includes('=') ? [one.slice(0, one.indexOf('=')), one.slice(one.indexOf('=') + 1)] : [one, ''])),
    );
  let draft = $state.raw<DraftedProvider | null>(null);
  let text = $state('');
  const doing = new Doing();
  const named = $derived({
    ...(form.name.trim() ? { name: form.name.trim() } : {}),
    ...(form.title.trim() ? { title: form.title.trim() } : {}),
  });
  const body = (): BodyOf<'draftProvider'> => {
    switch (way) {
      case 'issuer':
        return { from: 'issuer', address: form.address, api_call: form.api_call, ...named };
      case 'openapi':
        return { from: 'openapi', address: form.document ? '' : form.address, document: form.document, ...named };
      case 'short_form':
        return {
          from: 'short_form',
          authorization_url: form.authorization_url,
          token_url: form.token_url,
          api_call: form.api_call,
          scopes: form.scopes,
          scope_separator: form.delimiter,
          authorization_parameters: pairs(form.authorization),
          token_parameters: pairs(form.token),
          ...(form.method ? { method: form.method } : {}),
          ...named,
        };
      default:
        return { from: 'definition', document: form.document };
    }
  };
  const make = (event?: Event) => {
    event?.preventDefault();
    return doing.run(async () => {
      draft = await call('draftProvider', { body: body() });
      text = draft.document;
    });
  };
  const again = () =>
    doing.run(async () => {
      draft = await call('draftProvider', { body: { from: 'definition', document: text } });
    });
  const take = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    form.document = await file.text();
    await make();
  };
  const add = () =>
    doing.run(async () => {
      const added = await call('addProvider', { body: { document: text } });
      await push(`/providers/${added.name}/clients/new`);
    });
  const choose = (to: string) => {
    way = to as typeof way;
    draft = null;
    doing.problem = null;
  };
</script>

<Title title="Add a provider" up={{ href: '#/providers', name: 'Providers' }} />
<div class="max-w-4xl">
  <fieldset class="mb-4">
    <legend class="font-semibold mb-1">How do you want to describe the provider?</legend>
    <div class="flex flex-wrap gap-x-6 gap-y-1">
      {#each Object.entries(WAYS) as [key, says] (key)}<label class="flex items-center gap-2"
          ><input type="radio" class="radio radio-sm" name="way" checked={way === key} onchange={() => choose(key)} />{says}</label
        >{/each}
    </div>
  </fieldset>
  <Form saving={doing} onsubmit={make} class="mb-4">
    {#if way === 'issuer'}
      <Field id="address" label="Issuer" help="The provider’s pages call it issuer; the bare host where people sign in will often do."
        ><input id="address" class="input w-full mono" required bind:value={form.address} placeholder="id.provider.example" /></Field
      >
      <Field id="api-call" label="One test call for a connection" help="Metadata names none; it can also be added later."
        ><input
          id="api-call"
          class="input w-full mono"
          bind:value={form.api_call}
          placeholder="https://api.provider.example/v1/me"
        /></Field
      >
    {:else if way === 'openapi'}
      <Field id="address" label="Its address" help="OpenAPI 3.x, JSON or YAML."
        ><input id="address" class="input w-full mono" bind:value={form.address} /></Field
      >
      <Field id="file" label="Or the file"
        ><input id="file" type="file" class="file-input w-full" accept=".yaml,.yml,.json" onchange={take} /></Field
      >
    {:else if way === 'short_form'}
      <div class="grid md:grid-cols-2 gap-x-4">
        <Field id="authorization-url" label="Authorization URL" help="Leave empty if nobody signs in."
          ><input id="authorization-url" class="input w-full mono" bind:value={form.authorization_url} /></Field
        >
        <Field id="token-url" label="Token URL"
          ><input id="token-url" class="input w-full mono" required bind:value={form.token_url} /></Field
        >
      </div>
      <Field id="api-call" label="One test call for a connection" help="A GET that works once someone has consented."
        ><input id="api-call" class="input w-full mono" bind:value={form.api_call} /></Field
      >
      <Field id="scopes" label="Scopes" help="Pasted in any form: lines, commas, JSON, with remarks."
        ><textarea id="scopes" class="textarea w-full mono h-24" spellcheck="false" bind:value={form.scopes}></textarea></Field
      >
      <details class="mb-3">
        <summary class="cursor-pointer">Where it departs from the standards</summary>
        <div class="grid md:grid-cols-2 gap-x-4 mt-2">
          <Field id="method" label="Clients authenticate by"
            ><select id="method" class="select w-full" bind:value={form.method}
              ><option value="">not known: client_secret_basic</option><option>client_secret_basic</option><option
                >client_secret_post</option
              ><option>private_key_jwt</option><option>none</option></select
            ></Field
          >
          <Field id="delimiter" label="Scopes are joined by"
            ><select id="delimiter" class="select w-full" bind:value={form.delimiter}
              ><option value=" ">a space</option><option value=",">a comma</option><option value=";">a semicolon</option><option value="+"
                >a plus sign</option
              ></select
            ></Field
          >
          <Field id="authorization-parameters" label="Further authorization parameters" help="name=value, a line each."
            ><textarea id="authorization-parameters" class="textarea w-full mono h-16" spellcheck="false" bind:value={form.authorization}
            ></textarea></Field
          >
          <Field id="token-parameters" label="Further token parameters" help="name=value, a line each, such as an audience."
            ><textarea id="token-parameters" class="textarea w-full mono h-16" spellcheck="false" bind:value={form.token}></textarea></Field
          >
        </div>
        <p class="text-sm text-base-content/70">
          Anything else, such as JSON requests or members at other places, is written into the definition below.
        </p>
      </details>
    {:else}
      <Field id="file" label="Definition file" help="YAML or JSON. It is read and checked; nothing is saved yet."
        ><input id="file" type="file" class="file-input w-full" accept=".yaml,.yml,.json" onchange={take} /></Field
      >
      <Field id="text" label="Or paste it"
        ><textarea id="text" class="textarea w-full mono h-48 whitespace-pre" spellcheck="false" bind:value={form.document}
        ></textarea></Field
      >
    {/if}
    {#if way !== 'definition'}
      <details class="mb-3">
        <summary class="cursor-pointer">Name and title</summary>
        <div class="grid md:grid-cols-2 gap-x-4 mt-2">
          <Field
            id="name"
            problem={doing.problem}
            path="name"
            label="Name"
            help="In addresses and commands; it never changes. Left empty: made from the address."
            ><input id="name" class="input w-full mono" pattern="[a-z][a-z0-9\-]*" maxlength="41" bind:value={form.name} /></Field
          >
          <Field id="title" problem={doing.problem} path="title" label="Title"
            ><input id="title" class="input w-full" maxlength="80" bind:value={form.title} /></Field
          >
        </div>
      </details>
    {/if}
    <button class={['btn', !draft && 'btn-primary']} disabled={doing.busy}>{doing.busy ? 'Loading…' : 'Check it'}</button>
  </Form>
  <ProblemNote problem={doing.problem} />
  {#if draft}
    <section class="panel px-4 py-3 mb-3" aria-label="What it shows"><DraftReview {draft} /></section>
    <details class="mb-3">
      <summary class="cursor-pointer font-semibold">The definition, to be changed</summary>
      <textarea class="textarea w-full mono h-80 whitespace-pre mt-2" aria-label="Definition" spellcheck="false" bind:value={text}
      ></textarea>
      <button class="btn btn-sm mt-1" disabled={doing.busy} onclick={again}>Check the changes</button>
    </details>
    {#if draft.exists}<p class="text-error font-semibold mb-2">
        A provider of this name exists already: open its page to change its definition, or choose another name.
      </p>{/if}
    <button class="btn btn-primary" disabled={doing.busy || draft.exists || draft.wrong.length > 0 || !draft.ready} onclick={add}
      >Add {draft.values.find((one) => one.path === 'title')?.value ?? 'it'}</button
    >
  {/if}
</div>
