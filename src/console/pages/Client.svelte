<script lang="ts">
  import ExternalLink from '@lucide/svelte/icons/external-link';
  import { push } from 'svelte-spa-router';
  import ClientEntry from '../parts/ClientEntry.svelte';
  import ClientStanding from '../parts/ClientStanding.svelte';
  import ConfirmOrigins from '../parts/ConfirmOrigins.svelte';
  import Copy from '../parts/Copy.svelte';
  import FormAnswers from '../parts/FormAnswers.svelte';
  import Guide from '../parts/Guide.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import ReadyNote from '../parts/ReadyNote.svelte';
  import RedirectCheck from '../parts/RedirectCheck.svelte';
  import RehearsalMark from '../parts/RehearsalMark.svelte';
  import SecretList from '../parts/SecretList.svelte';
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
  const doing = new Doing();
  const reload = () => loaded.load();
  /** Open while something is missing; then as the person leaves it, so that what was said of saving stays. */
  let entering = $state<boolean | null>(null);
  /** The guide does not fold away under the hands of whoever follows it. */
  let guiding = $state<boolean | null>(null);
  const worked = () => {
    guiding = true;
    return loaded.load();
  };
  const saved = () => {
    entering = true;
    return loaded.load();
  };
  const remove = () =>
    doing.run(async () => {
      await call('removeClient', { params: key });
      await push('/providers');
    });
</script>

<Title title={`${c?.provider_title ?? params.provider} / ${params.client}`} up={{ href: '#/providers', name: 'Providers' }}>
  {#if c && c.missing.length === 0}<a class="btn btn-primary btn-sm" href={`#/connections/new?client=${c.provider}/${c.name}`}
      >Open a connection</a
    >{/if}
</Title>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if c}
  <p class="mb-4 flex flex-wrap gap-x-4">
    <StateMark state={c.state} />{#if c.rehearsal_port !== null}<span><RehearsalMark /> at port {c.rehearsal_port} of this machine</span
      >{/if}{#if c.cause}<span>{c.cause}</span>{/if}{#if c.remedy}<span><strong>What to do:</strong> {c.remedy}</span>{/if}
  </p>
  {#if c.unconfirmed_origins.length > 0}<ConfirmOrigins client={c} done={reload} />{/if}
  <ol class="max-w-5xl">
    <li class="panel px-4 py-3 mb-3">
      <h2>1. Register it at {c.provider_title}</h2>
      {#if c.type === 'service_account' || c.type === 'printed_code'}<p class="mt-1">
          {c.type === 'printed_code' ? 'People consent by a code that the provider’s console prints.' : 'Nobody signs in through it.'} If the
          form at the provider wants a redirect URI anyway:
        </p>{:else}<p class="mt-1">{c.words.redirect_uri ?? 'Redirect URI'}, to paste there exactly as it is:</p>{/if}
      <p class="my-1"><Copy value={c.redirect_uri} label="the redirect URI" /></p>
      {#if c.registration_page}<p>
          <a class="btn btn-sm" href={c.registration_page} target="_blank" rel="noopener"
            >Open their registration page<ExternalLink size={14} aria-hidden="true" /></a
          >
        </p>{/if}
      {#each c.redirect_rules as says (says)}<p class="border-l-4 border-warning pl-3 my-1">{says}</p>{/each}
      {#if c.guide.length > 0}<details
          class="mt-2"
          bind:open={
            () => guiding ?? (c.missing.length > 0 || (c.guide.some((step) => step.done) && c.guide.some((step) => !step.done))),
            (to) => (guiding = to)
          }
        >
          <summary class="cursor-pointer font-semibold">Step by step</summary>
          <div class="mt-2"><Guide client={c} done={worked} /></div>
        </details>{/if}
      {#if c.type !== 'service_account' && c.type !== 'printed_code'}<div class="mt-3">
          <RedirectCheck
            provider={c.provider}
            client={c.name}
            label={`${c.words.redirect_uri ?? 'Redirect URI'} as their page shows it after saving, pasted back`}
            done={reload}
          />
        </div>{/if}
    </li>
    <li class="panel px-4 py-3 mb-3">
      <h2>2. Enter what it gave you</h2>
      <dl class="facts my-2">
        <dt>{c.words.client_id ? `Client id (there: ${c.words.client_id})` : 'Client id'}</dt>
        <dd class={c.client_id ? 'mono' : ''}>{c.client_id ?? 'not entered yet'}</dd>
        {#if c.secrets.length === 0 && c.method !== 'none'}<dt>Secret</dt>
          <dd>not entered yet</dd>{/if}
      </dl>
      <SecretList client={c} done={reload} />
      <details class="mt-3" bind:open={() => entering ?? c.missing.length > 0, (to) => (entering = to)}>
        <summary class="cursor-pointer font-semibold"
          >{c.missing.length > 0
            ? 'Enter it'
            : c.method === 'private_key_jwt'
              ? 'Enter a new certificate'
              : c.method === 'none'
                ? 'Enter another id'
                : 'Enter a new secret'}</summary
        >
        <div class="mt-2"><ClientEntry client={c} done={saved} /></div>
      </details>
    </li>
    <li class="panel px-4 py-3 mb-3">
      <h2>3. Open a connection</h2>
      <div class="mt-2"><ReadyNote ready={c.ready} /></div>
      {#if c.missing.length === 0}<p>
          {c.connections === 1 ? '1 connection goes' : `${c.connections} connections go`} through this client.
          <a class="link link-primary" href={`#/connections/new?client=${c.provider}/${c.name}`}>Open one</a>
        </p>{/if}
    </li>
  </ol>
  {#if c.form.length > 0 || !['not_needed', 'approved'].includes(c.approval) || c.requests.length > 0}<section
      class="max-w-5xl mb-6"
      aria-labelledby="forms"
    >
      <h2 id="forms" class="mb-1">Access request and approval</h2>
      <FormAnswers client={c} done={reload} />
    </section>{/if}
  <section class="max-w-5xl mb-6" aria-labelledby="standing">
    <h2 id="standing" class="mb-1">Details</h2>
    <ClientStanding client={c} done={reload} />
  </section>
  {#if c.connections === 0}<button class="btn btn-sm btn-outline btn-error" disabled={doing.busy} onclick={remove}
      >Remove this client</button
    >{/if}
{:else if !loaded.problem}<p aria-busy="true">Reading…</p>{/if}
