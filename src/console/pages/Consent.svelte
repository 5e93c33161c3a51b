<script lang="ts">
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleX from '@lucide/svelte/icons/circle-x';
  import AgreeAgain from '../parts/AgreeAgain.svelte';
  import Answer from '../parts/Answer.svelte';
  import NothingCameBack from '../parts/NothingCameBack.svelte';
  import Moment from '../parts/Moment.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import PrintedCode from '../parts/PrintedCode.svelte';
  import RehearsalMark from '../parts/RehearsalMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Loaded } from '../state/loaded.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  /** Both ends of a consent: the page that waits for it, and the page on which it lands. */
  const { params }: { params: { consent: string } } = $props();
  const loaded = new Loaded(() => call('showConsent', { params: { consent: params.consent } }), 1_000);
  $effect(() => {
    void params.consent;
    return loaded.start();
  });
  const o = $derived(loaded.value);
  const connection = new Loaded(() => call('showConnection', { params: { connection: loaded.value?.connection ?? '' } }));
  $effect(() => {
    if (o?.wants_code && connection.value === null && connection.problem === null) void connection.load();
  });
  const signedIn = $derived(typeof session.who === 'object' && session.who !== null);
  const finished = $derived(o?.phase === 'done' || o?.phase === 'failed');
  const blockedLink = $derived(sessionStorage.getItem(`rk-consent-${params.consent}`));
  const SIDES = { person: 'the person who consents', client: 'our registration at the provider', provider: 'the provider', ours: 'this service' };
  const WAITS = { offered: 'The provider’s page is about to open.', started: 'Consent at the provider, in the other tab.', exchanging: 'The provider sent the person back; the code is being exchanged for tokens…', proving: 'The tokens are safe. Making the first call…', done: '', failed: '' };
</script>

{#if o}
  <Title title={finished ? (o.problem ? 'It did not work' : `${o.connection} is connected`) : o.by_itself ? `Asking ${o.provider_title}` : `Waiting for ${o.provider_title}`} up={signedIn ? { href: `#/connections/${o.connection}`, name: o.connection } : null} />
  {#if o.rehearsal}<p class="mb-3"><RehearsalMark /> At a simulated provider on this machine: nothing here is real.</p>{/if}
  {#if o.wants_code && !finished && signedIn}
    <PrintedCode outcome={o} ready={connection.value?.ready ?? null} done={() => loaded.load()} />
  {:else if !finished}
    <p class="flex items-center gap-3 mb-4" role="status"><span class="loading loading-dots loading-sm" aria-hidden="true"></span>{o.by_itself && o.phase === 'exchanging' ? 'The client asks for a token of its own…' : WAITS[o.phase]} <span class="text-base-content/70">Runs out <Moment at={o.expires_at} />.</span></p>
    {#if o.phase === 'offered' && blockedLink}<p class="mb-4">Your browser kept the new tab from opening: <a class="btn btn-primary btn-sm" href={blockedLink} target="_blank" rel="noopener">Go to {o.provider_title}</a></p>{/if}
    {#if o.phase === 'started' && signedIn}
      <p class="mb-4 flex gap-2"><AgreeAgain connection={o.connection} label="Start over" strong={false} /></p>
      <NothingCameBack provider={o.provider} client={o.client} providerTitle={o.provider_title} redirectUri={o.redirect_uri} />
    {/if}
  {:else if o.problem}
    <div class="border-l-4 border-error bg-base-200 px-4 py-3 mb-5" role="alert">
      <p class="text-lg font-semibold text-error flex items-center gap-2"><CircleX size={20} aria-hidden="true" />{o.problem.title}</p>
      {#if o.problem.evidence}<p>Evidence: <code>{o.problem.evidence}</code></p>{/if}
      <p>To be mended at: {SIDES[o.problem.side]}.</p><p><strong>What to do:</strong> {o.problem.remedy}</p>
    </div>
    {#if signedIn}<div class="flex gap-2 mb-5"><AgreeAgain connection={o.connection} label="Open it again" /><a class="btn btn-sm" href={`#/providers/${o.provider}/clients/${o.client}`}>To the client</a><a class="btn btn-sm" href={`#/connections/${o.connection}`}>To the connection</a></div>{/if}
  {:else}
    <p class="text-lg mb-3 flex items-center gap-2 text-success font-semibold" role="status"><CircleCheck size={20} aria-hidden="true" />{o.by_itself ? 'The client has a token of its own.' : o.account ? `${o.account.label} agreed.` : 'Agreed.'}</p>
  {/if}
  {#if finished && o.scopes}
    <dl class="facts mb-4">
      <dt>Who agreed</dt><dd>{o.by_itself ? 'nobody needs to: the client acts for itself' : o.account ? `${o.account.label} (${o.account.id})` : 'the provider does not say'}</dd>
      <dt>To what</dt><dd>{#each o.scopes.granted as scope (scope)}<code class="mr-2">{scope}</code>{/each}</dd>
      {#if o.scopes.missing.length > 0}<dt class="text-warning">Not granted</dt><dd class="text-warning font-semibold">{o.scopes.missing.join(' ')}</dd>{/if}
      <dt>Refresh token</dt><dd class={o.refresh_token || o.by_itself ? '' : 'text-warning font-semibold'}>{o.by_itself ? 'not needed: a new token is asked for in time' : o.refresh_token ? 'came: the connection is renewed by itself' : 'did not come: the connection ends with its access token'}</dd>
      <dt>Access token</dt><dd>{o.access_token_life_seconds === null ? 'no life was named' : `lives ${o.access_token_life_seconds} s at a time`}</dd>
    </dl>
    {#each o.warnings as warning (warning)}<p class="border-l-4 border-warning pl-3 my-1">{warning}</p>{/each}
    {#if o.first_call}<h2 class="mt-4 mb-1">The first call</h2><Answer answer={o.first_call} />{/if}
    {#if !o.problem}
      <h2 class="mt-5 mb-1">What to do next</h2>
      {#if signedIn}<p class="flex gap-2"><a class="btn btn-primary btn-sm" href={`#/connections/${o.connection}`}>Watch it being kept alive</a><a class="btn btn-sm" href="#/callers">Give it to an integration</a></p>
      {:else}<p>You may close this page. Operators can <a class="link" href={`#/connections/${o.connection}`}>sign in and go on</a>.</p>{/if}
    {/if}
  {/if}
{:else}
  <Title title="Consent" />
  {#if loaded.problem}<ProblemNote problem={loaded.problem} />{:else}<p aria-busy="true">Reading…</p>{/if}
{/if}
