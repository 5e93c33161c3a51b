<script lang="ts">
  import { push } from 'svelte-spa-router';
  import Credentials from '../parts/client/Credentials.svelte';
  import Setup from '../parts/client/Setup.svelte';
  import ClientStanding from '../parts/ClientStanding.svelte';
  import ConfirmOrigins from '../parts/ConfirmOrigins.svelte';
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import RehearsalMark from '../parts/RehearsalMark.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';
  import Confirm from '../ui/Confirm.svelte';
  import Menu from '../ui/Menu.svelte';
  import Tabs from '../ui/Tabs.svelte';
  import { tabOf } from '../ui/tabs.ts';

  const { params }: { params: { provider: string; client: string; tab: string | null } } = $props();
  const key = $derived({ provider: params.provider, client: params.client });
  const place = $derived(`${key.provider}/${key.client}`);
  const loaded = new Query(() => call('showClient', { params: key }), 5_000);
  $effect(() => {
    void place;
    return loaded.start();
  });
  const c = $derived(loaded.value);
  const doing = new Action();
  let isRemoving = $state(false);
  let happened = $state(0);
  const reload = async () => {
    happened += 1;
    await loaded.load();
  };
  const remove = () =>
    doing.run(async () => {
      await call('removeClient', { params: key });
      await push('/providers');
    });
  const TABS = [
    { id: 'setup', label: 'Setup' },
    { id: 'credentials', label: 'Credentials' },
    { id: 'details', label: 'Details' },
    { id: 'activity', label: 'Activity' },
  ];
  const tab = $derived(tabOf(TABS, params.tab));
</script>

<Title
  title={`${c?.provider_title ?? params.provider} / ${params.client}`}
  up={{ href: `#/providers/${params.provider}`, name: params.provider }}
>
  {#if c}
    {#if c.missing.length === 0}<a class="btn btn-primary btn-sm" href={`#/connections/new?client=${c.provider}/${c.name}`}
        >Open a connection</a
      >{/if}
    <Menu items={[{ label: 'Remove…', destructive: true, disabled: c.connections > 0, run: () => (isRemoving = true) }]} />
  {/if}
</Title>
<ProblemNote problem={loaded.problem} />
{#if c}
  <p class="mb-4 flex flex-wrap gap-x-4">
    <StateMark state={c.state} />{#if c.rehearsal_port !== null}<span><RehearsalMark /> at port {c.rehearsal_port} of this machine</span
      >{/if}<a class="link" href={`#/connections?provider=${c.provider}&client=${c.name}`}>{counted(c.connections, 'connection')}</a
    >{#if c.cause}<span>{c.cause}</span>{/if}{#if c.remedy}<span><strong>What to do:</strong> {c.remedy}</span>{/if}
  </p>
  {#if c.unconfirmed_origins.length > 0}<ConfirmOrigins client={c} done={reload} />{/if}
  <Tabs base={`/providers/${c.provider}/clients/${c.name}`} tabs={TABS} current={tab} />
  {#if tab === 'setup'}<Setup client={c} done={reload} />
  {:else if tab === 'credentials'}<Credentials client={c} done={reload} />
  {:else if tab === 'details'}<ClientStanding client={c} done={reload} />
  {:else}<HistoryPanel subject={`client:${place}`} version={happened} />{/if}
  <Confirm
    bind:open={isRemoving}
    title={`Remove the client ${c.name}?`}
    action="Remove"
    busy={doing.busy}
    problem={doing.problem}
    run={remove}
  >
    <p>Its id and secrets are deleted here. It stays registered at {c.provider_title} until someone removes it.</p>
  </Confirm>
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
