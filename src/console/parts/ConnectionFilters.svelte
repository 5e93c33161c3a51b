<script lang="ts">
  import { CONNECTION_STATES } from '../../api/choices.ts';
  import { STATES } from '../../api/vocabulary.ts';
  import type { ConnectionFilter } from '../state/connection-filter.ts';

  /** Search and filters of the list; they stand in the address, so that a narrowed list can be linked to. */
  interface Props {
    filter: ConnectionFilter;
    providers: { name: string; title: string }[];
    narrow(to: Partial<ConnectionFilter>): void;
    shown: number;
    total: number;
  }
  const { filter, providers, narrow, shown, total }: Props = $props();
</script>

<form class="flex flex-wrap items-center gap-2 mb-3" role="search" onsubmit={(event) => event.preventDefault()}>
  <input
    class="input input-sm w-64"
    type="search"
    data-search
    aria-label="Search connections"
    placeholder="Name, account, client, label …"
    value={filter.search}
    oninput={(event) => narrow({ search: event.currentTarget.value })}
  />
  <select
    class="select select-sm w-40"
    aria-label="State"
    value={filter.state}
    onchange={(event) => narrow({ state: event.currentTarget.value as ConnectionFilter['state'] })}
    ><option value="">Any state</option>{#each CONNECTION_STATES as one (one)}<option value={one}>{STATES[one].label}</option
      >{/each}</select
  >
  <select
    class="select select-sm w-40"
    aria-label="Provider"
    value={filter.provider}
    onchange={(event) => narrow({ provider: event.currentTarget.value, client: '' })}
    ><option value="">Any provider</option>{#each providers as one (one.name)}<option value={one.name}>{one.title}</option>{/each}</select
  >
  <input
    class="input input-sm w-32"
    aria-label="Label"
    placeholder="Label"
    value={filter.label}
    onchange={(event) => narrow({ label: event.currentTarget.value })}
  />
  {#if filter.client}<button type="button" class="btn btn-sm" onclick={() => narrow({ client: '' })}>Client {filter.client} ×</button>{/if}
  <span class="text-base-content/70 tabular-nums" role="status">{shown} of {total}</span>
</form>
