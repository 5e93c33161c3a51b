<script lang="ts">
  import ExternalLink from '@lucide/svelte/icons/external-link';
  import { push } from 'svelte-spa-router';
  import Copy from '../parts/Copy.svelte';
  import Field from '../parts/Field.svelte';
  import Moment from '../parts/Moment.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Doing, Loaded } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { provider: string; client: string } } = $props();
  const key = $derived({ provider: params.provider, client: params.client });
  const loaded = new Loaded(() => call('showClient', { params: key }), 5_000);
  $effect(() => {
    void key;
    return loaded.start();
  });
  const c = $derived(loaded.value);
  let clientId = $state('');
  let secret = $state('');
  let saved = $state('');
  const saving = new Doing();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      saved = '';
      const said: string[] = [];
      if (clientId.trim() && clientId.trim() !== c?.client_id) {
        await call('changeClient', { params: key, body: { revision: c?.revision ?? 1, client_id: clientId.trim() } });
        said.push('The id is saved.');
      }
      if (secret) {
        await call('addSecret', { params: key, body: { secret } });
        said.push('The secret is sealed; it will not be shown again.');
      }
      [clientId, secret, saved] = ['', '', said.join(' ')];
      await loaded.load();
    });
  };
  const remove = () =>
    saving.run(async () => {
      await call('removeClient', { params: key });
      await push('/providers');
    });
</script>

<Title title={`${c?.provider_title ?? params.provider} / ${params.client}`} up={{ href: '#/providers', name: 'Providers' }}>
  {#if c && c.missing.length === 0}<a class="btn btn-primary btn-sm" href={`#/connections/new?client=${c.provider}/${c.name}`}>Open a connection</a>{/if}
</Title>
<ProblemNote problem={loaded.problem} />
{#if c}
  <p class="mb-4 flex flex-wrap gap-x-4"><StateMark state={c.state} />{#if c.cause}<span>{c.cause}</span>{/if}{#if c.remedy}<span><strong>What to do:</strong> {c.remedy}</span>{/if}</p>
  <ol class="max-w-3xl">
    <li class="panel px-4 py-3 mb-3"><h2>1. Register it at {c.provider_title}</h2>
      <p class="mt-1">Redirect URI, to paste there exactly as it is:</p><p class="my-1"><Copy value={c.redirect_uri} label="the redirect URI" /></p>
      {#if c.registration_page}<p><a class="btn btn-sm" href={c.registration_page} target="_blank" rel="noopener">Open their registration page<ExternalLink size={14} aria-hidden="true" /></a></p>{/if}
    </li>
    <li class="panel px-4 py-3 mb-3"><h2>2. Enter what it gave you</h2>
      <dl class="facts my-2">
        <dt>Client id</dt><dd class={c.client_id ? 'mono' : ''}>{c.client_id ?? 'not entered yet'}</dd>
        <dt>Secret</dt><dd>{#if c.secret}sealed, entered <Moment at={c.secret.entered_at} />{#if c.secret.ends_at}, ends <Moment at={c.secret.ends_at} />{/if}{:else}not entered yet{/if}</dd>
      </dl>
      <form onsubmit={submit} class="max-w-md" autocomplete="off">
        <Field id="client-id" label={c.client_id ? 'Another client id' : 'Client id'}><input id="client-id" class="input w-full mono" autocomplete="off" bind:value={clientId} /></Field>
        <Field id="client-secret" label={c.secret ? 'A new secret' : 'Client secret'} help="It goes in and never comes out. Leave it empty to keep the present one."><input id="client-secret" type="password" class="input w-full mono" autocomplete="new-password" bind:value={secret} /></Field>
        <ProblemNote problem={saving.problem} />
        <button class="btn btn-primary btn-sm" disabled={saving.busy || (!clientId.trim() && !secret)}>Save</button> <span role="status" class="text-success font-semibold">{saved}</span>
      </form>
    </li>
    <li class="panel px-4 py-3 mb-3"><h2>3. Open a connection</h2>
      {#if c.missing.length > 0}<p>Missing: {c.missing.join(' and ')}.</p>{:else}<p>Ready. {c.connections} connections go through this client. <a class="link link-primary" href={`#/connections/new?client=${c.provider}/${c.name}`}>Open one</a></p>{/if}
    </li>
  </ol>
  {#if c.connections === 0}<button class="btn btn-sm btn-outline btn-error" disabled={saving.busy} onclick={remove}>Remove this client</button>{/if}
{:else if !loaded.problem}<p aria-busy="true">Reading…</p>{/if}
