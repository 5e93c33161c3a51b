<script lang="ts">
  import { onMount } from 'svelte';
  import CauseTable from '../parts/CauseTable.svelte';
  import ConnectionTable from '../parts/ConnectionTable.svelte';
  import HeldNote from '../parts/HeldNote.svelte';
  import Moment from '../parts/Moment.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Loaded } from '../state/loaded.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';

  const status = new Loaded(() => call('showStatus'), 2_000);
  const connections = new Loaded(() => call('listConnections', { query: { limit: 30 } }), 2_000);
  onMount(() => {
    const stops = [status.start(), connections.start()];
    return () => stops.forEach((stop) => stop());
  });
  const s = $derived(status.value);
  const working = $derived((connections.value?.items ?? []).filter((one) => one.state === 'working').slice(0, 12));
  /** What a new installation lacks, in the order of work. */
  const steps = $derived(
    s && [
      { done: s.providers > 0, href: '#/providers/new', text: 'Add a provider from its definition file' },
      { done: s.clients > 0, href: '#/providers', text: 'Start a client there; register it at the provider' },
      { done: s.connections.total > 0, href: '#/connections/new', text: 'Open a connection and consent' },
      { done: s.callers > 0, href: '#/callers', text: 'Add a caller, and give its id and key to an integration' },
    ],
  );
</script>

<Title title="Now" />
<ProblemNote problem={status.problem} />
{#if s}
  <dl class="flex flex-wrap gap-x-10 gap-y-2 mb-5">
    {#each [['working', s.connections.working, 'text-success'], ...(s.connections.idle > 0 ? [['idle, renewed on request', s.connections.idle, 'text-success']] : []), ['degraded', s.connections.degraded, 'text-warning'], ...(s.connections.at_risk > 0 ? [['of them at risk', s.connections.at_risk, 'text-warning']] : []), ['need action', s.connections.action_needed, 'text-error'], ['connections in all', s.connections.total, '']] as [word, count, colour] (word)}
      <div class="flex items-baseline gap-2">
        <dt class="order-2">{word}</dt>
        <dd class={['text-2xl font-semibold tabular-nums', Number(count) > 0 && colour]}>{count}</dd>
      </div>
    {/each}
  </dl>
  {#if steps?.some((step) => !step.done)}
    <section class="mb-6" aria-labelledby="first">
      <h2 id="first">First steps</h2>
      <ol class="list-decimal ml-5 mt-1">
        {#each steps as step (step.text)}<li class={step.done ? 'text-base-content/60' : ''}>
            {#if step.done}{step.text} <span class="text-success font-semibold">done</span>{:else}<a
                class="link link-primary"
                href={step.href}>{step.text}</a
              >{/if}
          </li>{/each}
      </ol>
    </section>
  {/if}
  {#if s.installation.held}<HeldNote installation={s.installation} done={() => status.load()} />{/if}
  <section class="mb-6" aria-labelledby="attention">
    <h2 id="attention" class="mb-1">Action needed and degraded</h2>
    {#if s.attention.length === 0}<p class="text-base-content/70">Nothing. Everything that was consented to is being kept active.</p>
    {:else}
      {#if s.groups.some((group) => group.count > 1)}<CauseTable groups={s.groups} />{/if}
      <ConnectionTable items={s.attention} />
      {#if s.groups.reduce((sum, group) => sum + group.count, 0) > s.attention.length}<p class="mt-1">
          The first {s.attention.length} are shown. <a class="link" href="#/connections">All {s.connections.total} connections</a>
        </p>{/if}
    {/if}
  </section>
  {#if s.decisions.length > 0}
    <section class="mb-6" aria-labelledby="decisions">
      <h2 id="decisions" class="mb-1">To be decided</h2>
      <ul>
        {#each s.decisions as one (one.connection)}<li class="flex flex-wrap gap-x-3">
            <a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a><span
              >{one.why === 'other_account'
                ? `another account agreed than expected${one.account ? `: ${one.account}` : ''}`
                : 'tokens came that could not be proved'}</span
            ><span class="text-base-content/70"><Moment at={one.since} />; they wait, and are not used</span>
          </li>{/each}
      </ul>
    </section>
  {/if}
  {#if s.revocations > 0}<p class="border-l-4 border-warning pl-3 mb-6">
      {s.revocations === 1 ? 'One revocation is' : `${s.revocations} revocations are`} not known to the provider yet; the request is retried automatically.
    </p>{/if}
  {#if s.approvals.length > 0}
    <section class="mb-6" aria-labelledby="approvals">
      <h2 id="approvals" class="mb-1">Approval by providers</h2>
      <ul>
        {#each s.approvals as one (`${one.provider}/${one.client}`)}<li class="flex flex-wrap gap-x-3">
            <StateMark state={one.approval} /><a class="link" href={`#/providers/${one.provider}/clients/${one.client}`}
              >{one.provider}/{one.client}</a
            ><span class="text-base-content/70"
              >{one.on
                ? `${one.approval === 'approved' ? 'on' : 'asked on'} ${one.on}`
                : ''}{#if one.seen_at && one.approval !== 'approved'}, looked for <Moment at={one.seen_at} />{/if}</span
            >
          </li>{/each}
      </ul>
    </section>
  {/if}
  {#if working.length > 0}
    <section class="mb-6" aria-labelledby="alive">
      <h2 id="alive" class="mb-1">Kept active</h2>
      <ConnectionTable items={working} />
      {#if s.connections.working > working.length}<p class="mt-1">
          <a class="link" href="#/connections">All {s.connections.total} connections</a>
        </p>{/if}
    </section>
  {/if}
  <section aria-labelledby="runs">
    <h2 id="runs" class="mb-1">How it runs</h2>
    <dl class="facts">
      <dt>Renewals</dt>
      <dd>
        {s.renewals.last_hour} in the last hour, {s.renewals.last_minute} in the last minute, {s.renewals.failed_last_hour} failed attempts; {s
          .renewals.due_now} due now{#if s.renewals.oldest_due_at}, the oldest <Moment at={s.renewals.oldest_due_at} />{/if}
      </dd>
      {#if s.renewals.unsaved > 0}<dt class="text-error">Not saved yet</dt>
        <dd class="text-error font-semibold">
          {s.renewals.unsaved} answers wait in memory for the database, {s.renewals.spilled} of them in sealed files too. Do not stop the service.
        </dd>{/if}
      {#each s.endpoints.filter((one) => one.paused_until !== null) as one (one.origin)}<dt class="text-warning">Left alone</dt>
        <dd><code>{one.origin}</code> does not answer; the next try <Moment at={one.paused_until} /></dd>{/each}
      <dt>Issued</dt>
      <dd>
        {counted(s.issued.last_hour, 'token')} and {counted(s.issued.relayed_last_hour, 'relayed call')} in the last hour, {s.issued
          .refused_last_hour} rejected
      </dd>
      <dt>Replicas</dt>
      <dd>
        {#each s.replicas as replica (replica.instance)}<div>
            <span class={replica.alive ? 'text-success font-semibold' : 'text-warning font-semibold'}
              >{replica.alive ? 'alive' : 'silent'}</span
            > <code>{replica.instance.slice(-12)}</code>, started <Moment at={replica.started_at} />
          </div>{/each}
      </dd>
      <dt>Version</dt>
      <dd>{s.version} at {s.public_url}</dd>
    </dl>
  </section>
{:else if !status.problem}<p aria-busy="true">Reading…</p>{/if}
