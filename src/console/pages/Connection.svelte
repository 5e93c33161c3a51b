<script lang="ts">
  import Play from '@lucide/svelte/icons/play';
  import RefreshCw from '@lucide/svelte/icons/refresh-cw';
  import CirclePlay from '@lucide/svelte/icons/circle-play';
  import UserRoundCheck from '@lucide/svelte/icons/user-round-check';
  import ConnectionEnd from '../parts/connection/End.svelte';
  import Notes from '../parts/connection/Notes.svelte';
  import Overview from '../parts/connection/Overview.svelte';
  import Renewals from '../parts/connection/Renewals.svelte';
  import Scopes from '../parts/connection/Scopes.svelte';
  import StatePanel from '../parts/connection/StatePanel.svelte';
  import TestCall from '../parts/connection/TestCall.svelte';
  import UsedBy from '../parts/connection/UsedBy.svelte';
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Reconnect from '../parts/Reconnect.svelte';
  import SharedConnection from '../parts/people/SharedConnection.svelte';
  import Title from '../parts/Title.svelte';
  import { connectionWords } from '../state/connection-words.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Menu from '../ui/Menu.svelte';
  import type { MenuItem } from '../ui/menu.ts';
  import Tabs from '../ui/Tabs.svelte';
  import { tabOf } from '../ui/tabs.ts';
  import { notify } from '../ui/toast.ts';

  const { params }: { params: { connection: string; tab: string | null } } = $props();
  const name = $derived(params.connection);
  const loaded = new Query(() => call('showConnection', { params: { connection: name } }), 2_000);
  $effect(() => {
    void name;
    return loaded.start();
  });
  const c = $derived(loaded.value);
  const words = $derived(c && connectionWords(c));
  const up = $derived(
    c?.person ? { href: `#/connections/${c.person.of}`, name: c.person.of } : { href: '#/connections', name: 'Connections' },
  );
  const personNote = ({ of, key }: { of: string; key: string }): string =>
    `The account of one person (${key}) in ${of}. Only they can reconnect it: invite them again.`;
  const doing = new Action();
  let happened = $state(0);
  let ending = $state<'revoke' | 'remove' | null>(null);
  const again = async () => {
    happened += 1;
    await loaded.load();
  };
  const ACTS = {
    renewConnection: 'Renewed.',
    probeConnection: 'Test call made.',
    pauseConnection: 'Paused.',
    resumeConnection: 'Resumed.',
    retryRevocation: 'Asked the provider again.',
  } as const;
  const act = (operation: keyof typeof ACTS) =>
    doing.run(async () => {
      await call(operation, { params: { connection: name } });
      await again();
      notify(ACTS[operation]);
    });
  const tabs = $derived([
    { id: 'overview', label: 'Overview' },
    { id: 'used-by', label: 'Used by', ...(c && { note: String(c.callers_last_used.length) }) },
    { id: 'test-call', label: 'Test call' },
    { id: 'scopes', label: 'Scopes' },
    { id: 'renewals', label: 'Renewals' },
    { id: 'activity', label: 'Activity' },
  ]);
  const tab = $derived(tabOf(tabs, params.tab === 'try' ? 'test-call' : params.tab));
  const items = $derived<MenuItem[]>(
    c && words
      ? [
          ...(words.paused ? [] : [{ label: 'Pause', disabled: !words.consented || doing.busy, run: () => void act('pauseConnection') }]),
          ...(words.consented && !words.revoked ? [{ label: 'Revoke…', destructive: true, run: () => (ending = 'revoke') }] : []),
          { label: 'Remove…', destructive: true, run: () => (ending = 'remove') },
        ]
      : [],
  );
</script>

{#if c?.shared}<SharedConnection connection={c} tab={params.tab} done={again} />
{:else}
  <Title title={c?.person ? (c.person.name ?? c.person.key) : name} {up}>
    {#if c && words}
      <button class="btn btn-sm" disabled={doing.busy || !words.consented || words.paused} onclick={() => act('probeConnection')}
        ><Play size={15} aria-hidden="true" />Test call</button
      >
      <button class="btn btn-sm" disabled={doing.busy || c.next_renewal_at === null} onclick={() => act('renewConnection')}
        ><RefreshCw size={15} aria-hidden="true" />Renew now</button
      >
      {#if words.paused}<button class="btn btn-sm btn-primary" disabled={doing.busy} onclick={() => act('resumeConnection')}
          ><CirclePlay size={15} aria-hidden="true" />Resume</button
        >{/if}
      {#if !c.person}<Reconnect
          connection={c.name}
          way={words.way}
          label={words.consent}
          strong={c.state !== 'working' && !words.paused}
          icon={UserRoundCheck}
        />{/if}
      <Menu {items} />
    {/if}
  </Title>
  <ProblemNote problem={loaded.problem ?? doing.problem} />
  {#if c && words}
    {#if c.person}<p class="mb-3">{personNote(c.person)}</p>{/if}
    <Notes connection={c} {words} busy={doing.busy} done={again} retryRevocation={() => act('retryRevocation')} />
    <StatePanel connection={c} />
    <Tabs base={`/connections/${c.name}`} {tabs} current={tab} />
    {#if tab === 'overview'}<Overview connection={c} {words} done={again} />
    {:else if tab === 'used-by'}<UsedBy connection={c} />
    {:else if tab === 'test-call'}<TestCall connection={c} {words} done={again} />
    {:else if tab === 'scopes'}<Scopes connection={c} />
    {:else if tab === 'renewals'}<Renewals connection={c} />
    {:else}<HistoryPanel subject={`connection:${name}`} version={happened} />{/if}
    <ConnectionEnd connection={c} bind:ending done={again} />
  {:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
{/if}
