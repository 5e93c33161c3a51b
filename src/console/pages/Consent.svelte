<script lang="ts">
  import { SIDE_LABELS } from '../../api/vocabulary.ts';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleX from '@lucide/svelte/icons/circle-x';
  import Reconnect from '../parts/Reconnect.svelte';
  import CapabilityTable from '../parts/CapabilityTable.svelte';
  import Answer from '../parts/Answer.svelte';
  import AttemptList from '../parts/AttemptList.svelte';
  import DeviceCode from '../parts/DeviceCode.svelte';
  import DiagnosisNote from '../parts/DiagnosisNote.svelte';
  import LifeTable from '../parts/LifeTable.svelte';
  import PastedAnswer from '../parts/PastedAnswer.svelte';
  import ScopeTable from '../parts/ScopeTable.svelte';
  import StandbyNote from '../parts/StandbyNote.svelte';
  import AdminConsentNote from '../parts/AdminConsentNote.svelte';
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
    if (o && signedIn && connection.value === null && connection.problem === null) void connection.load();
  });
  const signedIn = $derived(typeof session.who === 'object' && session.who !== null);
  const finished = $derived(o?.phase === 'done' || o?.phase === 'failed');
  const blockedLink = $derived(sessionStorage.getItem(`rk-consent-${params.consent}`));
  $effect(() => {
    // How it went changes the connection: read it again once it is finished.
    if (finished && signedIn) void connection.load();
  });
  const again = () => Promise.all([loaded.load(), connection.load()]);
  /** How it is opened again: as it was, where a browser can go that way. */
  const way = $derived(
    o && (o.way === 'pasted' || o.way === 'device' || o.way === 'printed')
      ? o.way
      : o?.way === 'loopback'
        ? ('pasted' as const)
        : undefined,
  );
  const WAITS = {
    offered: 'The provider’s page is about to open.',
    started: 'Consent at the provider, in the other tab.',
    polling: 'Waiting until someone has entered the code and decided…',
    exchanging: 'The answer is being exchanged for tokens…',
    verifying: 'The tokens are safe. Making the first call…',
    done: '',
    failed: '',
  };
</script>

{#if o}
  <Title
    title={finished
      ? o.decide === 'other_account'
        ? 'Stop and decide'
        : o.problem
          ? 'It did not work'
          : o.decide === 'prepared'
            ? `${o.connection}: prepared`
            : `${o.connection} is connected`
      : o.by_itself
        ? `Asking ${o.provider_title}`
        : `Waiting for ${o.provider_title}`}
    up={signedIn ? { href: `#/connections/${o.connection}`, name: o.connection } : null}
  />
  {#if o.rehearsal}<p class="mb-3"><RehearsalMark /> At a simulated provider on this machine: nothing here is real.</p>{/if}
  {#if o.moves_to && o.moves_to !== connection.value?.client}<p class="mb-3">
      {o.problem ? 'It would have moved' : 'It moves'} to the client <strong>{o.moves_to}</strong> once the new tokens are verified; what is in
      use stays until then.
    </p>{/if}
  {#if o.wants_code && !finished && signedIn}
    <PrintedCode outcome={o} ready={connection.value?.ready ?? null} done={() => loaded.load()} />
  {:else if !finished}
    <p class="flex flex-wrap items-center gap-3 mb-4" role="status">
      <span class="loading loading-dots loading-sm" aria-hidden="true"></span>{o.by_itself && o.phase === 'exchanging'
        ? 'The client requests a token of its own…'
        : WAITS[o.phase]} <span class="text-base-content/70">Expires <Moment at={o.expires_at} />.</span>
    </p>
    {#if o.phase === 'offered' && blockedLink}<p class="mb-4">
        Your browser kept the new tab from opening: <a class="btn btn-primary btn-sm" href={blockedLink} target="_blank" rel="noopener"
          >Go to {o.provider_title}</a
        >
      </p>{/if}
    {#if o.phase === 'offered' && o.way === 'redirect' && !blockedLink && signedIn}<p class="my-4 flex flex-wrap items-center gap-2">
        <Reconnect connection={o.connection} label="Start over" strong={false} /><span
          >The link works once and is shown where it was made; starting over makes a new one.</span
        >
      </p>{/if}
    <DeviceCode outcome={o} />
    {#if o.way === 'imported'}<p class="mb-3">
        The refresh token is stored. It is being verified by one renewal; the old script must not renew any more.
      </p>{/if}
    {#if o.phase === 'started' && signedIn}
      {#if o.way !== 'redirect' && o.wants_pasted}<PastedAnswer outcome={o} done={() => loaded.load()} />{/if}
      <p class="my-4 flex gap-2"><Reconnect connection={o.connection} label="Start over" {way} strong={false} /></p>
      {#if o.way === 'redirect' && o.wants_pasted}<details class="panel px-4 py-2 mb-4 max-w-3xl">
          <summary class="cursor-pointer">The browser came back to a page that cannot be reached?</summary><PastedAnswer
            outcome={o}
            done={() => loaded.load()}
          />
        </details>{/if}
      <NothingCameBack outcome={o} done={() => loaded.load()} />
    {/if}
  {:else if o.problem}
    <div class="border-l-4 border-error bg-base-200 px-4 py-3 mb-5" role="alert">
      <p class="text-lg font-semibold text-error flex items-center gap-2"><CircleX size={20} aria-hidden="true" />{o.problem.title}</p>
      {#if !o.problem.diagnosis && o.problem.evidence}<p>Evidence: <code>{o.problem.evidence}</code></p>{/if}
      {#if !o.problem.diagnosis || o.decide}<p>Fix it at: {SIDE_LABELS[o.problem.side]}.</p>
        <p><strong>What to do:</strong> {o.problem.remedy}</p>{/if}
    </div>
    {#if o.problem.diagnosis}<DiagnosisNote diagnosis={o.problem.diagnosis} />{/if}
    {#if connection.value && o.decide}<StandbyNote connection={connection.value} done={again} />{/if}
    {#if connection.value && o.problem.diagnosis?.half === 'organization'}<AdminConsentNote connection={connection.value} />{/if}
    {#if o.page_diagnosis}<h2 class="mt-3">What their page meant</h2>
      <DiagnosisNote
        diagnosis={o.page_diagnosis}
      />{:else if signedIn && !o.problem.diagnosis && !o.decide && o.way === 'redirect'}<NothingCameBack
        outcome={o}
        done={() => loaded.load()}
      />{/if}
    {#if signedIn}<div class="flex gap-2 mb-5">
        <Reconnect connection={o.connection} label="Open it again" {way} /><a
          class="btn btn-sm"
          href={`#/providers/${o.provider}/clients/${o.client}`}>To the client</a
        ><a class="btn btn-sm" href={`#/connections/${o.connection}`}>To the connection</a>
      </div>{/if}
  {:else}
    <p class="text-lg mb-3 flex items-center gap-2 text-success font-semibold" role="status">
      <CircleCheck size={20} aria-hidden="true" />{o.by_itself
        ? 'The client has a token of its own.'
        : o.account
          ? `${o.account.label} consented.`
          : 'Agreed.'}
    </p>
  {/if}
  {#if finished && o.scopes}
    <dl class="facts mb-4">
      <dt>Who agreed</dt>
      <dd>
        {o.by_itself
          ? 'nobody needs to: the client acts for itself'
          : o.account
            ? `${o.account.label} (${o.account.id})`
            : 'the provider does not say'}
      </dd>
      {#if o.opened}<dt>What was opened</dt>
        <dd>{o.opened}</dd>{/if}
      <dt>To what</dt>
      <dd>
        {#each o.scopes.granted as scope (scope)}<code class="mr-2">{scope}</code>{/each}
      </dd>
      {#if o.scopes.missing.length > 0}<dt class="text-warning">Not granted</dt>
        <dd class="text-warning font-semibold">{o.scopes.missing.join(' ')}</dd>{/if}
      <dt>Refresh token</dt>
      <dd class={o.refresh_token || o.by_itself ? '' : 'text-warning font-semibold'}>
        {o.by_itself
          ? 'not needed: a new token is requested in time'
          : o.refresh_token
            ? 'came: the connection renews automatically'
            : 'did not come: the connection ends with its access token'}
      </dd>
      <dt>Access token</dt>
      <dd>{o.access_token_life_seconds === null ? 'no lifetime was named' : `lives ${o.access_token_life_seconds} s at a time`}</dd>
    </dl>
    {#each o.warnings as warning (warning)}<p class="border-l-4 border-warning pl-3 my-1">{warning}</p>{/each}
    {#if o.lifetime && o.lifetime.lines.length > 0}<h2 class="mt-4 mb-1">Expiration and renewal</h2>
      <LifeTable lifetime={o.lifetime} />{/if}
    {#if o.first_call}<h2 class="mt-4 mb-1">The first call</h2>
      <Answer answer={o.first_call} />{/if}
    {#if signedIn && !o.problem && connection.value && connection.value.capabilities.length > 1}<h2 class="mt-4 mb-1">What it can do</h2>
      <CapabilityTable connection={connection.value} done={again} />{/if}
    {#if connection.value && !o.by_itself && (o.scopes.missing.length > 0 || connection.value.operations_lacking.length > 0)}<h2
        class="mt-4 mb-1"
      >
        Scopes, side by side
      </h2>
      <ScopeTable connection={connection.value} />{#if connection.value.operations_lacking.length > 0}<p class="mt-1">
          Not possible with them: {connection.value.operations_lacking.join(', ')}.{#if connection.value.callers.length > 0}
            That stops {connection.value.callers.join(', ')} where they need it.{/if}
        </p>{/if}{/if}
    {#if o.decide === 'prepared' && connection.value}<StandbyNote connection={connection.value} done={again} />{/if}
    {#if !o.problem}
      <h2 class="mt-5 mb-1">What to do next</h2>
      {#if signedIn}<p class="flex gap-2">
          <a class="btn btn-primary btn-sm" href={`#/connections/${o.connection}`}>Show the connection</a><a
            class="btn btn-sm"
            href="#/callers">Add a caller</a
          >
        </p>
      {:else}<p>
          You may close this page. Operators can <a class="link" href={`#/connections/${o.connection}`}>sign in and go on</a>.
        </p>{/if}
    {/if}
  {/if}
  {#if finished && o.attempts.length > 0}<details class="mt-5">
      <summary class="cursor-pointer font-semibold">Requests and answers of this consent, masked</summary><AttemptList items={o.attempts} />
    </details>{/if}
{:else}
  <Title title="Consent" />
  {#if loaded.problem}<ProblemNote problem={loaded.problem} />{:else}<p aria-busy="true">Loading…</p>{/if}
{/if}
