<script lang="ts">
  import { push } from 'svelte-spa-router';
  import type { NewKey } from '../../api/callers.ts';
  import Copy from '../ui/Copy.svelte';
  import Events from '../parts/caller/Events.svelte';
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import Identities from '../parts/caller/Identities.svelte';
  import KeyTable from '../parts/KeyTable.svelte';
  import Time from '../ui/Time.svelte';
  import NewKeyNote from '../parts/NewKeyNote.svelte';
  import PermissionTable from '../parts/PermissionTable.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import SetupPanel from '../parts/SetupPanel.svelte';
  import Statistics from '../parts/Statistics.svelte';
  import Title from '../parts/Title.svelte';
  import ToolSettings from '../parts/ToolSettings.svelte';
  import UseTable from '../parts/UseTable.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';
  import Confirm from '../ui/Confirm.svelte';
  import Menu from '../ui/Menu.svelte';
  import Tabs from '../ui/Tabs.svelte';
  import { tabOf } from '../ui/tabs.ts';

  const { params }: { params: { caller: string; tab: string | null } } = $props();
  const name = $derived(params.caller);
  const loaded = new Query(() => call('showCaller', { params: { caller: name } }), 3_000);
  const connections = new Query(() => call('listConnections', { query: { limit: 500 } }));
  $effect(() => {
    void name;
    const stops = [loaded.start(), connections.start()];
    return () => stops.forEach((stop) => stop());
  });
  const c = $derived(loaded.value);
  let happened = $state(0);
  let made = $state.raw<NewKey | null>(null);
  let isRemoving = $state(false);
  const doing = new Action();
  const again = () => {
    happened += 1;
    return loaded.load();
  };
  const remove = () =>
    doing.run(async () => {
      await call('removeCaller', { params: { caller: name } });
      await push('/callers');
    });
  const tabs = $derived([
    { id: 'permissions', label: 'Permissions', ...(c && { note: String(c.permissions.length) }) },
    { id: 'setup', label: 'Setup instructions' },
    { id: 'keys', label: 'Keys', ...(c && { note: String(c.keys.length) }) },
    { id: 'usage', label: 'Usage' },
    { id: 'events', label: 'Events' },
    { id: 'activity', label: 'Activity' },
  ]);
  const tab = $derived(tabOf(tabs, params.tab));
  const of = $derived({ caller: name });
  const setupVersion = $derived(c ? JSON.stringify([c.redirect_uris, c.token_path, c.keeps_no_secret, c.permissions]) : '');
</script>

<Title title={name} up={{ href: '#/callers', name: 'Callers' }}>
  <Menu items={[{ label: 'Remove…', destructive: true, run: () => (isRemoving = true) }]} />
</Title>
<ProblemNote problem={loaded.problem} />
{#if made}<NewKeyNote {made} onclose={() => (made = null)} />{/if}
{#if c}
  <dl class="facts mb-4">
    {#if c.title}<dt>Description</dt>
      <dd>{c.title}</dd>{/if}
    <dt>Client id</dt>
    <dd><Copy value={c.caller_id} label="the client id" /></dd>
    <dt>Last hour</dt>
    <dd>
      {counted(c.tokens_last_hour, 'token')}, {counted(c.relayed_last_hour, 'relayed call')}, {c.refused_last_hour} rejected
    </dd>
    <dt>Last used</dt>
    <dd>
      <Time at={c.last_used_at} none="never" />
    </dd>
  </dl>
  <Tabs base={`/callers/${c.name}`} {tabs} current={tab} />
  {#if tab === 'permissions'}
    <h2 class="sr-only">Permissions</h2>
    <PermissionTable caller={c} connections={connections.value?.items ?? []} done={again} />
  {:else if tab === 'setup'}
    <h2 class="sr-only">Setup instructions</h2>
    <SetupPanel caller={c.name} connections={c.connections} total={c.connections_total} version={setupVersion} />
    <h2 class="mt-6 mb-1">Tool settings</h2>
    <ToolSettings caller={c} done={again} />
  {:else if tab === 'keys'}
    <h2 class="sr-only">Keys</h2>
    <KeyTable caller={c} done={again} made={(one) => (made = one)} />
    <Identities caller={c} done={again} />
  {:else if tab === 'usage'}
    <section class="mb-6" aria-label="Last 24 hours"><Statistics {of} /></section>
    <h2 class="mb-1">By connection</h2>
    <UseTable uses={c.uses} total={c.uses_total} />
  {:else if tab === 'events'}<Events caller={c.name} />
  {:else}<HistoryPanel subject={`caller:${name}`} version={happened} />{/if}
  <Confirm bind:open={isRemoving} title={`Remove ${c.name}?`} action="Remove" busy={doing.busy} problem={doing.problem} run={remove}>
    <p>Its keys{c.signed_in.some((one) => !one.ended_at) ? ', and the sign-ins of its tools,' : ''} stop working within a second.</p>
    {#if c.uses.length > 0}<p class="mt-2">This stops working:</p>
      <ul class="list-disc ml-5">
        {#each c.uses as use (use.connection)}<li>
            {use.connection}: {counted(use.tokens, 'token')} and {counted(use.relayed, 'relayed call')} in the last day, last <Time
              at={use.last_at}
            />
          </li>{/each}{#if c.uses_total > c.uses.length}<li>
            and {counted(c.uses_total - c.uses.length, 'connection')} more, used earlier
          </li>{/if}
      </ul>{:else}<p class="mt-2">It used nothing in the last day.</p>{/if}
  </Confirm>
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
