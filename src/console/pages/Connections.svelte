<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import { onMount } from 'svelte';
  import ConnectionTable from '../parts/ConnectionTable.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Loaded } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const PAGE = 100;
  let limit = $state(PAGE);
  const list = new Loaded(() => call('listConnections', { query: { limit, search: wanted.trim() || undefined } }), 2_000);
  onMount(() => list.start());
  let wanted = $state('');
  const items = $derived(list.value?.items ?? []);
</script>

<Title title="Connections"
  ><a class="btn btn-primary btn-sm" href="#/connections/new"><Plus size={16} aria-hidden="true" />Open a connection</a></Title
>
<ProblemNote problem={list.problem} />
{#if list.value && items.length === 0 && !wanted}
  <p>
    No connections yet. A connection is one authorization at a provider, under a name your integrations use. <a
      class="link link-primary"
      href="#/connections/new">Open the first one</a
    >.
  </p>
{:else if list.value}
  <label class="flex items-center gap-2 mb-2"
    >Show only <input
      class="input input-sm w-64"
      type="search"
      placeholder="name, state, account …"
      bind:value={wanted}
      oninput={() => list.load()}
    /><span class="text-base-content/70">{items.length} of {list.value.total}</span></label
  >
  <ConnectionTable {items} />
  {#if items.length < list.value.total && limit < 500}<button
      class="btn btn-sm mt-2"
      onclick={() => {
        limit = Math.min(500, limit + PAGE);
        void list.load();
      }}>Show more</button
    >
  {:else if items.length < list.value.total}<p class="mt-2">Narrow it down by name, account, provider or client to see the others.</p>{/if}
{:else if !list.problem}<p aria-busy="true">Reading…</p>{/if}
