<script lang="ts">
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import Reconnect from '../parts/Reconnect.svelte';
  import AttemptList from '../parts/AttemptList.svelte';
  import DeviceCode from '../parts/DeviceCode.svelte';
  import PastedAnswer from '../parts/PastedAnswer.svelte';
  import NothingCameBack from '../parts/NothingCameBack.svelte';
  import Time from '../ui/Time.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import PrintedCode from '../parts/PrintedCode.svelte';
  import RehearsalMark from '../parts/RehearsalMark.svelte';
  import Failed from '../parts/consent/Failed.svelte';
  import Granted from '../parts/consent/Granted.svelte';
  import Title from '../parts/Title.svelte';
  import { Query } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  /** Both ends of a consent: the page that waits for it, and the page on which it lands. */
  const { params }: { params: { consent: string } } = $props();
  const loaded = new Query(() => call('showConsent', { params: { consent: params.consent } }), 1_000);
  $effect(() => {
    void params.consent;
    return loaded.start();
  });
  const o = $derived(loaded.value);
  const connection = new Query(() => call('showConnection', { params: { connection: loaded.value?.connection ?? '' } }));
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
      {o.problem ? 'It would have moved' : 'It moves'} to the client <strong>{o.moves_to}</strong> once the new tokens are verified.
    </p>{/if}
  {#if o.wants_code && !finished && signedIn}
    <PrintedCode outcome={o} ready={connection.value?.ready ?? null} done={() => loaded.load()} />
  {:else if !finished}
    <p class="flex flex-wrap items-center gap-3 mb-4" role="status">
      <span class="loading loading-dots loading-sm" aria-hidden="true"></span>{o.by_itself && o.phase === 'exchanging'
        ? 'The client requests a token of its own…'
        : WAITS[o.phase]} <span class="text-base-content/70">Expires <Time at={o.expires_at} />.</span>
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
    <Failed outcome={o} connection={connection.value} {signedIn} {way} {again} reload={() => loaded.load()} />
  {:else}
    <p class="text-lg mb-3 flex items-center gap-2 text-success font-semibold" role="status">
      <CircleCheck size={20} aria-hidden="true" />{o.by_itself
        ? 'The client has a token of its own.'
        : o.account
          ? `${o.account.label} consented.`
          : 'Consented.'}
    </p>
  {/if}
  {#if finished && o.scopes}
    <Granted outcome={o} connection={connection.value} {signedIn} {again} />
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
