<script lang="ts">
  import CirclePlay from '@lucide/svelte/icons/circle-play';
  import type { Connection } from '../../../api/connections.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Copy from '../../ui/Copy.svelte';
  import Menu from '../../ui/Menu.svelte';
  import Tabs from '../../ui/Tabs.svelte';
  import { tabOf } from '../../ui/tabs.ts';
  import { notify } from '../../ui/toast.ts';
  import ConnectionEnd from '../connection/End.svelte';
  import UsedBy from '../connection/UsedBy.svelte';
  import HistoryPanel from '../HistoryPanel.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import StateMark from '../StateMark.svelte';
  import Title from '../Title.svelte';
  import Campaigns from './Campaigns.svelte';
  import Invitations from './Invitations.svelte';
  import People from './People.svelte';

  /** A shared connection: one grant for each person who connected their own account. */
  const { connection: c, tab: wanted, done }: { connection: Connection; tab: string | null; done: () => Promise<unknown> } = $props();
  const name = $derived(c.name);
  const doing = new Action();
  let ending = $state<'revoke' | 'remove' | null>(null);
  const tabs = $derived([
    { id: 'people', label: 'People' },
    { id: 'invitations', label: 'Invitations' },
    { id: 'campaigns', label: 'Campaigns' },
    { id: 'details', label: 'Details' },
    { id: 'used-by', label: 'Used by', note: String(c.callers_last_used.length) },
    { id: 'activity', label: 'Activity' },
  ]);
  const tab = $derived(tabOf(tabs, wanted));
  const isPaused = $derived(c.state === 'paused');
  const turn = () =>
    doing.run(async () => {
      await call(isPaused ? 'resumeConnection' : 'pauseConnection', { params: { connection: name } });
      await done();
      notify(isPaused ? 'Paused for everyone.' : 'Resumed.');
    });
  const items = $derived([
    ...(isPaused ? [] : [{ label: 'Pause for everyone', disabled: doing.busy, run: () => void turn() }]),
    { label: 'Remove…', destructive: true, run: () => (ending = 'remove') },
  ]);
</script>

<Title title={name} up={{ href: '#/connections', name: 'Connections' }}>
  {#if isPaused}<button class="btn btn-sm btn-primary" disabled={doing.busy} onclick={turn}
      ><CirclePlay size={15} aria-hidden="true" />Resume</button
    >{/if}
  <Menu {items} />
</Title>
<ProblemNote problem={doing.problem} />
<p class="panel px-4 py-3 mb-4 flex flex-wrap gap-x-4">
  <StateMark state={c.state} /><span>Shared: each person connects their own {c.provider_title} account.</span>{#if c.cause}<span
      >{c.cause}</span
    >{/if}
</p>
<Tabs base={`/connections/${name}`} {tabs} current={tab} />
{#if tab === 'people'}<People connection={name} />
{:else if tab === 'invitations'}<Invitations connection={name} />
{:else if tab === 'campaigns'}<Campaigns connection={name} scopes={c.scopes_requested} />
{:else if tab === 'details'}
  <dl class="facts">
    <dt>Client</dt>
    <dd><a class="link" href={`#/providers/${c.provider}/clients/${c.client}`}>{c.provider_title}/{c.client}</a> ({c.environment})</dd>
    <dt>Scopes requested</dt>
    <dd class="mono">{c.scopes_requested.join(' ')}</dd>
    <dt>Resource</dt>
    <dd><Copy value={`${c.resource}/people/KEY`} label="the resource" /></dd>
    <dt>Relay</dt>
    <dd><Copy value={`${c.relay_url}/people/KEY/`} label="the relay address" /></dd>
  </dl>
  <p class="mt-2 text-base-content/70">KEY is the application’s own key for the person, percent-encoded.</p>
{:else if tab === 'used-by'}<UsedBy connection={c} />
{:else}<HistoryPanel subject={`connection:${name}`} version={0} />{/if}
<ConnectionEnd connection={c} bind:ending {done} />
