<script lang="ts">
  import RefreshCw from '@lucide/svelte/icons/refresh-cw';
  import CirclePause from '@lucide/svelte/icons/circle-pause';
  import CirclePlay from '@lucide/svelte/icons/circle-play';
  import Play from '@lucide/svelte/icons/play';
  import UserRoundCheck from '@lucide/svelte/icons/user-round-check';
  import type { Connection } from '../../api/connections.ts';
  import { push } from 'svelte-spa-router';
  import CapabilityTable from '../parts/CapabilityTable.svelte';
  import Reconnect from '../parts/Reconnect.svelte';
  import AdminConsentNote from '../parts/AdminConsentNote.svelte';
  import DiagnosisNote from '../parts/DiagnosisNote.svelte';
  import LifeTable from '../parts/LifeTable.svelte';
  import OtherWays from '../parts/OtherWays.svelte';
  import StandbyNote from '../parts/StandbyNote.svelte';
  import Answer from '../parts/Answer.svelte';
  import AttemptList from '../parts/AttemptList.svelte';
  import PolicyChoice from '../parts/PolicyChoice.svelte';
  import Copy from '../parts/Copy.svelte';
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import LabelChoice from '../parts/LabelChoice.svelte';
  import LifeLine from '../parts/LifeLine.svelte';
  import Moment from '../parts/Moment.svelte';
  import QuotaTable from '../parts/QuotaTable.svelte';
  import ReadyNote from '../parts/ReadyNote.svelte';
  import RehearsalMark from '../parts/RehearsalMark.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import ScopeTable from '../parts/ScopeTable.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import UserTable from '../parts/UserTable.svelte';
  import { Doing, Loaded } from '../state/loaded.svelte.ts';
  import { clock } from '../state/clock.svelte.ts';
  import { times } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { connection: string } } = $props();
  const loaded = new Loaded(() => call('showConnection', { params: { connection: params.connection } }), 2_000);
  let happened = $state(0);
  const quota = new Loaded(() => call('showQuota', { params: { connection: params.connection } }), 5_000);
  const attempts = new Loaded(() => call('listAttempts', { params: { connection: params.connection } }), 4_000);
  $effect(() => {
    void params.connection;
    const stops = [loaded.start(), attempts.start(), quota.start()];
    return () => stops.forEach((stop) => stop());
  });
  const doing = new Doing();
  let removing = $state(false);
  let revoking = $state(false);
  let revoked = $state('');
  const revoke = () =>
    doing.run(async () => {
      revoked = (await call('revokeConnection', { params: { connection: params.connection } })).says;
      revoking = false;
      happened += 1;
      await loaded.load();
    });
  const c = $derived<Connection | null>(loaded.value);
  const paused = $derived(c?.state === 'paused');
  const act = (name: 'renewConnection' | 'probeConnection' | 'pauseConnection' | 'resumeConnection') =>
    doing.run(async () => {
      await call(name, { params: { connection: params.connection } });
      happened += 1;
      await loaded.load();
    });
  const remove = () =>
    doing.run(async () => {
      await call('removeConnection', { params: { connection: params.connection } });
      await push('/connections');
    });
  const agreed = $derived(c !== null && c.consented_at !== null);
  const own = $derived(c !== null && c.grant_type !== 'authorization_code' && c.grant_kind !== 'static_key');
  const isKey = $derived(c?.grant_kind === 'static_key');
  const again = () => {
    happened += 1;
    return Promise.all([loaded.load(), attempts.load()]);
  };
  const tellAgain = () =>
    doing.run(async () => {
      revoked = (await call('retryRevocation', { params: { connection: params.connection } })).says;
      await again();
    });
  /** The way that a browser can go: a desktop client's redirect goes to the engineer's own machine. */
  const way = $derived(c === null || c.ways.includes('redirect') ? undefined : c.ways.includes('pasted') ? ('pasted' as const) : undefined);
</script>

<Title title={params.connection} up={{ href: '#/connections', name: 'Connections' }}>
  {#if c}
    <button class="btn btn-sm" disabled={doing.busy || !agreed || paused} onclick={() => act('probeConnection')}
      ><Play size={15} aria-hidden="true" />Try the call</button
    >
    {#if agreed && !paused}<a class="btn btn-sm" href={`#/connections/${c.name}/try`}>Compose a call</a>{/if}
    <button class="btn btn-sm" disabled={doing.busy || c.next_renewal_at === null} onclick={() => act('renewConnection')}
      ><RefreshCw size={15} aria-hidden="true" />Renew now</button
    >
    {#if paused}<button class="btn btn-sm btn-primary" disabled={doing.busy} onclick={() => act('resumeConnection')}
        ><CirclePlay size={15} aria-hidden="true" />Resume</button
      >
    {:else}<button class="btn btn-sm" disabled={doing.busy || !agreed} onclick={() => act('pauseConnection')}
        ><CirclePause size={15} aria-hidden="true" />Pause</button
      >{/if}
    <Reconnect
      connection={c.name}
      {way}
      label={c.ways[0] === 'by_itself' ? (agreed ? 'Ask again' : 'Request the token') : agreed ? 'Reconnect' : 'Go to consent'}
      strong={c.state !== 'working' && !paused}
      icon={UserRoundCheck}
    />
  {/if}
</Title>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if c}
  {#if c.open_consent}<p class="border-l-4 border-primary pl-3 py-1 mb-4" role="status">
      A consent is under way, started by {c.open_consent.opened_by}; it expires <Moment at={c.open_consent.expires_at} />.
      <a class="link link-primary" href={`#/consents/${c.open_consent.id}`}>Go on with it</a>
    </p>{/if}
  {#if !agreed && c.state !== 'revoked'}<ReadyNote ready={c.ready} />{/if}
  <StandbyNote connection={c} done={again} />
  <AdminConsentNote connection={c} />
  {#if c.revocation}<p class="border-l-4 border-warning pl-3 py-1 mb-4" role="status">
      The provider does not know of the revocation yet. {c.revocation.says}{#if c.revocation.next_at}
        Next try <Moment at={c.revocation.next_at} />.{/if}
      <button class="btn btn-xs" disabled={doing.busy} onclick={tellAgain}>Tell it now</button>
    </p>{/if}
  <section class="panel px-4 py-3 mb-5" aria-label="State">
    <p class="flex flex-wrap gap-x-4">
      <StateMark state={c.state} />{#if c.rehearsal}<RehearsalMark />{/if}{#if c.cause}<span>{c.cause}</span>{/if}
    </p>
    {#if c.evidence && c.state !== 'working'}<p class="text-sm">The provider said: <code>{c.evidence}</code></p>{/if}
    {#if c.remedy && !c.diagnosis}<p><strong>What to do:</strong> {c.remedy}</p>{/if}
    {#if c.diagnosis}<DiagnosisNote diagnosis={c.diagnosis} />{/if}
    {#if c.life}
      <div class="mt-3"><LifeLine life={c.life} tall /></div>
      <p class="flex flex-wrap justify-between text-sm text-base-content/80">
        <span>issued <Moment at={c.life.issued_at} /></span><span>renewal <Moment at={c.next_renewal_at} none="not planned" /></span><span
          >{Date.parse(c.life.expires_at) > clock.now ? 'expires' : 'expired'} <Moment at={c.life.expires_at} /></span
        ><span>renewed {times(c.renewals)}; ticks: the last day</span>
      </p>
    {/if}
  </section>
  <div class="grid lg:grid-cols-2 gap-6 mb-6">
    <section aria-labelledby="what">
      <h2 id="what" class="mb-1">What was consented</h2>
      <dl class="facts">
        {#if isKey}<dt>Held</dt>
          <dd>a static key: nothing renews it</dd>{:else if own}<dt>Acts</dt>
          <dd>
            {c.grant_type === 'jwt_bearer'
              ? `in the name of ${c.expected_account}: a service account asks`
              : 'for itself: the client requests its own token'}
          </dd>{:else}<dt>Account</dt>
          <dd>
            {c.account ?? (agreed ? 'not read' : 'nobody yet')}{#if c.expected_account && c.expected_account !== c.account}{' '}<span
                class="text-base-content/70">expected: {c.expected_account}</span
              >{/if}
          </dd>
          {#if c.opened}<dt>Opened</dt>
            <dd>{c.opened}</dd>{/if}{/if}
        <dt>Client</dt>
        <dd>
          <a class="link" href={`#/providers/${c.provider}/clients/${c.client}`}>{c.provider_title}/{c.client}</a>, {c.rehearsal
            ? `a rehearsal of ${c.environment}`
            : c.environment}
        </dd>
        {#if c.consented_at}<dt>{isKey ? 'Given' : own ? 'Asked' : c.grant_kind === 'imported' ? 'Imported' : 'Consented'}</dt>
          <dd><Moment at={c.consented_at} />, started by {c.consented_by}</dd>
          <dt>Refresh token</dt>
          <dd class={own || isKey || (c.has_refresh_token && c.next_renewal_at) ? '' : 'text-warning font-semibold'}>
            {isKey
              ? 'none: it is a key'
              : own
                ? 'not needed: a new token is requested in time'
                : !c.has_refresh_token
                  ? 'none came: it ends with its access token'
                  : c.next_renewal_at
                    ? 'yes: it renews automatically'
                    : 'held, and rejected by the provider'}
          </dd>{/if}
        {#if c.reconnect_by}<dt>Reconnect by</dt>
          <dd><Moment at={c.reconnect_by} />: the grant ends then by the provider’s rules</dd>{/if}
        <dt>Renewed</dt>
        <dd><PolicyChoice connection={c} done={() => loaded.load()} /></dd>
        <dt>Scopes</dt>
        <dd>
          {#each c.scopes_granted ?? c.scopes_requested as scope (scope)}<code class="mr-2">{scope}</code>{/each}
        </dd>
        {#if c.scopes_by_themselves.length > 0}<dt>Also requested</dt>
          <dd>
            {#each c.scopes_by_themselves as scope (scope)}<code class="mr-2">{scope}</code>{/each}<span class="text-base-content/70"
              >to read who consented</span
            >
          </dd>{/if}
        {#if Object.keys(c.placeholders).length > 0}<dt>Placeholders</dt>
          <dd>
            {#each Object.entries(c.placeholders) as [name, value] (name)}<span class="mr-3">{name} <code>{value}</code></span>{/each}
          </dd>{/if}
        {#if c.operations.length > 0}<dt>It is for</dt>
          <dd>{c.operations.join(', ')}</dd>{/if}
        {#if c.operations_lacking.length > 0}<dt class="text-warning">Not allowed</dt>
          <dd class="text-warning font-semibold">{c.operations_lacking.join(', ')}: the scopes held do not allow it</dd>{/if}
        {#if c.weaker_client}<dt>Weaker client</dt>
          <dd>
            <a class="link" href={`#/providers/${c.provider}/clients/${c.weaker_client}`}>{c.weaker_client}</a> would do for these operations
          </dd>{/if}
        {#if c.scopes_unused.length > 0}<dt>Never used</dt>
          <dd>{c.scopes_unused.join(' ')}: granted, and needed by nothing that is ticked</dd>{/if}
        {#if c.scopes_missing.length > 0}<dt class="text-warning">Not granted</dt>
          <dd class="text-warning font-semibold">{c.scopes_missing.join(' ')}</dd>{/if}
      </dl>
    </section>
    <section aria-labelledby="use">
      <h2 id="use" class="mb-1">Use it</h2>
      <dl class="facts">
        <dt>Labels</dt>
        <dd><LabelChoice connection={c} done={() => loaded.load()} /></dd>
        <dt>API</dt>
        <dd class="mono break-all">{c.base_url}</dd>
        <dt>Resource</dt>
        <dd><Copy value={c.resource} label="the resource" /></dd>
        <dt>Relay</dt>
        <dd><Copy value={c.relay_url} label="the relay's address" /></dd>
        <dt>By hand</dt>
        <dd><Copy value={`rk call ${c.name} GET ${c.probe.path || '/'}`} label="the command" /></dd>
      </dl>
    </section>
  </div>
  <section class="mb-6" aria-labelledby="users">
    <h2 id="users" class="mb-1">Who uses it</h2>
    <UserTable users={c.callers_last_used} />
  </section>
  {#if quota.value && quota.value.items.length > 0}<section class="mb-6" aria-labelledby="quota">
      <h2 id="quota" class="mb-1">What is left of the provider’s quota</h2>
      <QuotaTable quota={quota.value} />
    </section>{/if}
  {#if agreed && c.lifetime.lines.length > 0}<section class="mb-6" aria-labelledby="live">
      <h2 id="live" class="mb-1">Expiration and renewal</h2>
      <LifeTable lifetime={c.lifetime} />
    </section>{/if}
  {#if agreed}<section class="mb-6" aria-labelledby="capabilities">
      <h2 id="capabilities" class="mb-1">What it can do, proved</h2>
      <CapabilityTable connection={c} done={again} />
    </section>{/if}
  <section class="mb-6 max-w-5xl" aria-labelledby="scopes">
    <h2 id="scopes" class="mb-1">Scopes, side by side</h2>
    <ScopeTable connection={c} />
  </section>
  {#if c.claims}<section class="mb-6 max-w-5xl" aria-labelledby="claims">
      <h2 id="claims" class="mb-1">What the access token says of itself</h2>
      <p class="text-sm text-base-content/70">Its claims when it was first received; the token itself is not shown.</p>
      <dl class="facts">
        {#each Object.entries(c.claims) as [name, value] (name)}<dt><code>{name}</code></dt>
          <dd class="break-all">{value}</dd>{/each}
      </dl>
    </section>{/if}
  <OtherWays connection={c} done={again} />
  {#if c.probe.last}<section class="mb-6" aria-labelledby="proof">
      <h2 id="proof" class="mb-1">The call that verifies it, when it was last tried</h2>
      <Answer answer={c.probe.last} />
    </section>{/if}
  <section aria-labelledby="attempts" class="mb-6">
    <h2 id="attempts" class="mb-1">Attempts to renew</h2>
    <AttemptList items={attempts.value?.items ?? []} />
  </section>
  <section aria-labelledby="past" class="mb-6">
    <h2 id="past" class="mb-1">History</h2>
    <HistoryPanel subject={`connection:${params.connection}`} version={happened} />
  </section>
  {#if revoked}<p role="status" class="mb-3">Revoked. {revoked}</p>{/if}
  {#if revoking}
    <div class="border-l-4 border-error pl-4 py-2 mb-3" role="group" aria-label="Revoke">
      <p>
        Revoke <strong>{c.name}</strong>: the grant is revoked at the provider, and its tokens are deleted here. Name, callers and history
        stay.
      </p>
      {#if c.callers_last_used.length > 0}<p class="mt-1">This stops working:</p>
        <ul class="list-disc ml-5">
          {#each c.callers_last_used as one (one.caller)}<li>
              <a class="link" href={`#/callers/${one.caller}`}>{one.caller}</a>, {#if one.at}last used <Moment at={one.at} />{:else}never
                used it{/if}
            </li>{/each}
        </ul>{:else}<p>No caller uses it.</p>{/if}
      <button class="btn btn-error btn-sm mt-1" disabled={doing.busy} onclick={revoke}>Revoke it</button>
      <button class="btn btn-sm mt-1" onclick={() => (revoking = false)}>Keep it</button>
    </div>
  {:else if agreed && c.state !== 'revoked'}<button class="btn btn-sm btn-outline btn-error mr-2" onclick={() => (revoking = true)}
      >Revoke…</button
    >{/if}
  {#if removing}
    <div class="border-l-4 border-error pl-4 py-2" role="group" aria-label="Remove">
      <p>
        Remove <strong>{c.name}</strong> and discard its tokens?{#if c.callers.length > 0}
          It is used by {c.callers.join(', ')}; they get no token any more.{/if} At the provider the grant stays until it is withdrawn there.
      </p>
      <button class="btn btn-error btn-sm mt-1" disabled={doing.busy} onclick={remove}>Remove it</button>
      <button class="btn btn-sm mt-1" onclick={() => (removing = false)}>Keep it</button>
    </div>
  {:else}<button class="btn btn-sm btn-outline btn-error" onclick={() => (removing = true)}>Remove…</button>{/if}
{:else if !loaded.problem}<p aria-busy="true">Reading…</p>{/if}
