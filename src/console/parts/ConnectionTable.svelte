<script lang="ts">
  import type { ConnectionSummary } from '../../api/connections.ts';
  import { CONNECTION_COLUMNS, connectionTable } from '../state/connection-table.ts';
  import Table from '../ui/Table.svelte';
  import type { TableState } from '../ui/table.svelte.ts';
  import Cut from '../ui/Cut.svelte';
  import LifeLine from './LifeLine.svelte';
  import Time from '../ui/Time.svelte';
  import RehearsalMark from './RehearsalMark.svelte';
  import StateMark from './StateMark.svelte';

  interface Props {
    items: ConnectionSummary[];
    table?: TableState<ConnectionSummary>;
    selectable?: boolean;
    idOf?(one: ConnectionSummary): string;
  }
  const { items, table = connectionTable(), selectable = false, idOf = (one) => one.name }: Props = $props();
</script>

{#snippet cell(one: ConnectionSummary, key: string)}
  {#if key === 'name'}<a class="link" href={`#/connections/${one.name}`}>{one.name}</a>{#if one.labels.length > 0}<div
        class="text-sm font-normal text-base-content/70"
      >
        {one.labels.join(', ')}
      </div>{/if}
  {:else if key === 'state'}<StateMark state={one.state} />{#if one.cause}<div class="text-sm max-w-64">{one.cause}</div>{/if}
  {:else if key === 'account'}{#if one.shared}<em>shared: many people</em>{:else}<Cut text={one.account ?? '–'} />{/if}
  {:else if key === 'client'}<a class="link" href={`#/providers/${one.provider}/clients/${one.client}`}>{one.provider_title}/{one.client}</a
    >
    <span class="text-sm text-base-content/70">{one.environment}</span>{#if one.rehearsal}{' '}<RehearsalMark />{/if}
  {:else if key === 'life'}<LifeLine life={one.life} />
  {:else if key === 'expires'}<Time at={one.life?.expires_at ?? null} />
  {:else}{one.renewals}{/if}
{/snippet}

<Table caption="Connections" columns={CONNECTION_COLUMNS} rows={items} state={table} {idOf} {cell} {selectable} />
