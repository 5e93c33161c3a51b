<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import { onMount } from 'svelte';
  import { replace, router } from 'svelte-spa-router';
  import type { ConnectionSummary } from '../../api/connections.ts';
  import BulkActions from '../parts/BulkActions.svelte';
  import ConnectionFilters from '../parts/ConnectionFilters.svelte';
  import ConnectionTable from '../parts/ConnectionTable.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { type ConnectionFilter, filterAddress, filterQuery, readFilter } from '../state/connection-filter.ts';
  import { connectionTable } from '../state/connection-table.ts';
  import { Query } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  const PAGE = 100;
  const MOST = 500;
  let limit = $state(PAGE);
  const filter = $derived(readFilter(router.querystring ?? ''));
  const isNarrowed = $derived(filterAddress(filter) !== '/connections');
  const list = new Query(() => call('listConnections', { query: { limit, ...filterQuery(filter) } }), 2_000);
  const providers = new Query(() => call('listProviders'));
  onMount(() => {
    const stops = [list.start(), providers.start()];
    return () => stops.forEach((stop) => stop());
  });
  $effect(() => {
    void [filter, limit];
    void list.load();
  });
  const table = connectionTable();
  const items = $derived(list.value?.items ?? []);
  const total = $derived(list.value?.total ?? 0);
  const selected = $derived(table.selected(items));
  const narrow = (to: Partial<ConnectionFilter>) => void replace(filterAddress({ ...filter, ...to }));
  const idOf = (one: ConnectionSummary) => one.name;
</script>

<Title title="Connections"
  >{#if session.may('addConnection')}<a class="btn btn-primary btn-sm" href="#/connections/new"
      ><Plus size={16} aria-hidden="true" />Open a connection</a
    >{/if}</Title
>
<ProblemNote problem={list.problem} />
{#if list.value && items.length === 0 && !isNarrowed}
  <p>
    No connections yet. A connection is one authorization at a provider, under a name your integrations use.
    <a class="link link-primary" href="#/connections/new">Open the first one</a>.
  </p>
{:else if list.value}
  <ConnectionFilters {filter} providers={providers.value?.items ?? []} {narrow} shown={items.length} {total} />
  {#if selected.length > 0}<BulkActions connections={selected} clear={() => table.clear()} done={() => list.load()} />{/if}
  {#if items.length === 0}<p class="py-6 text-base-content/70">
      No connection matches. <a class="link" href="#/connections">Clear the filters</a>
    </p>
  {:else}<ConnectionTable {items} {table} {idOf} selectable />{/if}
  {#if items.length < total && limit < MOST}<button class="btn btn-sm mt-2" onclick={() => (limit = Math.min(MOST, limit + PAGE))}
      >Show more</button
    >
  {:else if items.length < total}<p class="mt-2">Only the first {MOST} are listed. Use the search or a filter to narrow them.</p>{/if}
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
