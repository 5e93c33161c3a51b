<script lang="ts" generics="T">
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import type { Snippet } from 'svelte';
  import type { Column, TableState } from './table.svelte.ts';

  /** Rows with sorting and selection; a list of cards where the window is narrow. */
  const {
    caption,
    columns,
    rows,
    state: table,
    idOf,
    cell,
    selectable = false,
  }: {
    caption: string;
    columns: readonly Column<T>[];
    rows: readonly T[];
    state: TableState<T>;
    idOf(row: T): string;
    cell: Snippet<[row: T, key: string]>;
    selectable?: boolean;
  } = $props();
  const ordered = $derived(table.ordered(rows));
  const isAll = $derived(rows.length > 0 && rows.every((row) => table.has(row)));
  const orderOf = (key: string) => (table.sort?.key === key ? (table.sort.descending ? 'descending' : 'ascending') : 'none');
</script>

<table class="list-table">
  <caption class="sr-only">{caption}</caption>
  <thead>
    <tr>
      {#if selectable}
        <th class="w-8"
          ><input
            type="checkbox"
            class="checkbox checkbox-sm"
            checked={isAll}
            aria-label="Select all shown"
            onchange={() => table.toggleAll(rows)}
          /></th
        >
      {/if}
      {#each columns as column (column.key)}
        <th class={column.class} aria-sort={column.sortBy ? orderOf(column.key) : undefined}>
          {#if column.sortBy}
            <button
              type="button"
              class="inline-flex items-center gap-1 cursor-pointer font-semibold"
              onclick={() => table.sortBy(column.key)}
              >{column.label}{#if orderOf(column.key) === 'ascending'}<ArrowUp
                  size={13}
                  aria-hidden="true"
                />{:else if orderOf(column.key) === 'descending'}<ArrowDown size={13} aria-hidden="true" />{/if}</button
            >
          {:else}{column.label}{/if}
        </th>
      {/each}
    </tr>
  </thead>
  <tbody>
    {#each ordered as row (idOf(row))}
      <tr class={table.has(row) ? 'bg-base-200' : ''}>
        {#if selectable}
          <td
            ><input
              type="checkbox"
              class="checkbox checkbox-sm"
              checked={table.has(row)}
              aria-label={`Select ${idOf(row)}`}
              onchange={() => table.toggle(row)}
            /></td
          >
        {/if}
        {#each columns as column (column.key)}<td class={column.class} data-label={column.label}>{@render cell(row, column.key)}</td>{/each}
      </tr>
    {/each}
  </tbody>
</table>
