<script lang="ts">
  import type { PrivilegeShown } from '../../api/privilege.ts';
  import { POWER_LABELS, WIDTH_LABELS } from '../../api/vocabulary.ts';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';
  import Table from '../ui/Table.svelte';
  import { type Column, TableState } from '../ui/table.svelte.ts';

  const seen = new Query(() => call('showPrivilege'));
  $effect(() => seen.start());
  const doing = new Action();
  const save = () =>
    doing.run(async () => {
      const { name, text } = await call('exportPrivilege');
      const link = window.document.createElement('a');
      link.href = URL.createObjectURL(new Blob([text], { type: 'text/csv' }));
      link.download = name;
      link.click();
      URL.revokeObjectURL(link.href);
    });
  type One = PrivilegeShown['connections'][number];
  let only = $state<'all' | 'unneeded' | 'wide'>('all');
  const shown = $derived(
    (seen.value?.connections ?? []).filter((one) =>
      only === 'unneeded' ? one.unneeded.length > 0 : only === 'wide' ? one.width === 'organization' || one.power === 'admin' : true,
    ),
  );
  const ORDER = { identity: 0, read: 1, write: 2, admin: 3 };
  const COLUMNS: readonly Column<One>[] = [
    { key: 'name', label: 'Connection', sortBy: (one) => one.name, class: 'font-semibold' },
    { key: 'power', label: 'Can', sortBy: (one) => (one.power === null ? -1 : ORDER[one.power]) },
    { key: 'width', label: 'Reaches', sortBy: (one) => one.width },
    { key: 'account', label: 'Account', sortBy: (one) => one.account ?? '' },
    { key: 'unneeded', label: 'Not needed', sortBy: (one) => one.unneeded.length },
    { key: 'users', label: 'Used by', sortBy: (one) => one.callers.length + one.jobs.length },
  ];
  const idOf = (one: One) => one.name;
  const table = new TableState(COLUMNS, idOf);
  const counts = $derived.by(() => {
    const of = (power: One['power']) => (seen.value?.connections ?? []).filter((one) => one.power === power).length;
    return [
      { label: 'administer', count: of('admin'), class: 'bg-error' },
      { label: 'write', count: of('write'), class: 'bg-warning' },
      { label: 'read', count: of('read'), class: 'bg-success' },
      { label: 'see who signed in', count: of('identity'), class: 'bg-info' },
      { label: 'not known', count: of(null), class: 'bg-base-300' },
    ].filter((one) => one.count > 0);
  });
  const could = $derived((seen.value?.callers ?? []).filter((one) => one.could !== null));
</script>

{#snippet cell(one: One, key: string)}
  {#if key === 'name'}<a class="link" href={`#/connections/${one.name}`}>{one.name}</a>
    <div class="font-normal text-sm text-base-content/70">{one.client}, {one.environment}</div>
  {:else if key === 'power'}<span class={one.power === 'admin' ? 'text-error font-semibold' : one.power === 'write' ? 'text-warning' : ''}
      >{one.power === null ? 'not known' : POWER_LABELS[one.power]}</span
    >
  {:else if key === 'width'}<span class={one.width === 'organization' ? 'font-semibold' : ''}>{WIDTH_LABELS[one.width]}</span>
  {:else if key === 'account'}{one.account ?? ''}
  {:else if key === 'unneeded'}<span class="mono break-all">{one.unneeded.join(' ')}</span
    >{#if one.unneeded.length > 0 && !one.unneeded_known}<span class="ml-2 text-sm text-base-content/70">perhaps</span>{/if}
  {:else if key === 'users'}{[...one.callers, ...one.jobs.map((job) => `job ${job}`)].join(', ')}{/if}
{/snippet}

<Title title="Privilege"
  >{#if session.may('exportPrivilege')}<button class="btn btn-sm" disabled={doing.busy} onclick={save}>Export CSV</button>{/if}</Title
>
<p class="mb-3 max-w-2xl text-base-content/70">
  What each connection can do with its granted scopes, for whom, and what of it nothing set up here needs. <i>Perhaps</i>: its tokens are
  fetched, or nothing uses it, so nobody can tell here. Uses of the last {seen.value?.days ?? 35} days.
</p>
<ProblemNote problem={seen.problem ?? doing.problem} />
{#if seen.value}
  {@const all = seen.value}
  {#if all.connections.length > 0}
    <div class="flex h-3 rounded-box overflow-hidden max-w-3xl" aria-hidden="true">
      {#each counts as one (one.label)}<div class={one.class} style:flex-grow={one.count}></div>{/each}
    </div>
    <p class="mb-3 mt-1 text-sm">
      {#each counts as one (one.label)}<span class="mr-4"
          ><span class={['inline-block size-2.5 rounded-sm mr-1', one.class]} aria-hidden="true"></span><b class="tabular-nums"
            >{one.count}</b
          >
          {one.label}</span
        >{/each}
    </p>
    <label class="flex items-center gap-2 mb-2 text-sm"
      >Show<select class="select select-sm w-64" bind:value={only}
        ><option value="all">all connections</option><option value="unneeded">with scopes that nothing needs</option><option value="wide"
          >that administer, or reach the whole organization</option
        ></select
      ></label
    >
    <Table caption="Connections by privilege" columns={COLUMNS} rows={shown} state={table} {idOf} {cell} />
  {:else}<p>No connections yet. <a class="link" href="#/connections/new">Open the first one</a></p>{/if}

  <h2 class="mt-6">Permissions that could be less</h2>
  {#if could.length > 0}
    <table class="list-table max-w-4xl">
      <thead><tr><th>Caller</th><th>Opens</th><th>Could be</th></tr></thead>
      <tbody>
        {#each could as one (`${one.name} ${one.opens}`)}
          <tr>
            <td data-label="Caller"><a class="link font-semibold" href={`#/callers/${one.name}`}>{one.name}</a></td>
            <td data-label="Opens">{one.opens}</td>
            <td data-label="Could be">{one.could}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p>None: each is used as it is permitted.</p>{/if}

  <h2 class="mt-6">Depends on one person</h2>
  {#if all.dependents.length > 0}
    <table class="list-table max-w-4xl">
      <thead><tr><th>Account</th><th>Provider</th><th>Connections</th><th>Stops without it</th></tr></thead>
      <tbody>
        {#each all.dependents as one (`${one.provider} ${one.account}`)}
          <tr>
            <td data-label="Account" class="font-semibold">{one.account}</td>
            <td data-label="Provider">{one.provider}</td>
            <td data-label="Connections">{one.connections.join(', ')}</td>
            <td data-label="Stops without it">{[...one.callers, ...one.jobs.map((job) => `job ${job}`)].join(', ')}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p>Nobody: no schedule or caller depends on one person’s account.</p>{/if}

  <h2 class="mt-6">Clients</h2>
  <table class="list-table max-w-4xl">
    <thead><tr><th>Client</th><th>Environment</th><th>Registered scopes allow</th><th class="text-right">Connections</th></tr></thead>
    <tbody>
      {#each all.clients as one (one.name)}
        <tr>
          <td data-label="Client"><a class="link" href={`#/providers/${one.name.replace('/', '/clients/')}`}>{one.name}</a></td>
          <td data-label="Environment">{one.environment}</td>
          <td data-label="Registered scopes allow">{one.says}</td>
          <td data-label="Connections" class="text-right tabular-nums">{one.connections}</td>
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
