<script lang="ts">
  import { tableOf } from '../state/composed.svelte.ts';

  /** A body as a table where it holds a list of records, as a tree where it is JSON, as text always. */
  const { body }: { body: string } = $props();
  const parsed = $derived.by(() => {
    try {
      return { value: JSON.parse(body) as unknown };
    } catch {
      return null;
    }
  });
  const table = $derived(parsed ? tableOf(parsed.value) : null);
  let wanted = $state<'table' | 'tree' | 'text' | null>(null);
  const look = $derived(wanted ?? (table ? 'table' : parsed ? 'tree' : 'text'));
  const SHOWN = 200;
  const MOST = 300;
</script>

{#snippet node(value: unknown, name: string | null, depth: number)}
  {#if typeof value === 'object' && value !== null}
    {@const inner = Object.entries(value)}
    <details open={depth < 2}>
      <summary class="cursor-pointer mono"
        >{#if name !== null}<span class="text-info">{name}</span>:{' '}{/if}{Array.isArray(value)
          ? `[${inner.length}]`
          : `{${inner.length}}`}</summary
      >
      <div class="pl-4 border-l border-base-300 ml-1">
        {#each inner.slice(0, MOST) as [key, one] (key)}{@render node(one, key, depth + 1)}{/each}{#if inner.length > MOST}<div>
            and {inner.length - MOST} more
          </div>{/if}
      </div>
    </details>
  {:else}<div class="mono break-words">
      {#if name !== null}<span class="text-info">{name}</span>:{' '}{/if}<span
        class={typeof value === 'string' ? 'text-success' : 'text-warning'}>{JSON.stringify(value)}</span
      >
    </div>{/if}
{/snippet}

<div class="flex gap-1 px-3 py-1 border-b border-base-300" role="group" aria-label="How the body is shown">
  {#each [['table', table !== null], ['tree', parsed !== null], ['text', true]] as const as [name, can] (name)}<button
      type="button"
      class={['btn btn-xs', look === name && 'btn-primary']}
      aria-pressed={look === name}
      disabled={!can}
      onclick={() => (wanted = name)}>{name}</button
    >{/each}
  {#if look === 'table' && table}<span class="text-sm text-base-content/70 ml-2 self-center"
      >{table.rows.length} records{table.at ? ` at ${table.at}` : ''}{table.rows.length > SHOWN ? `, the first ${SHOWN} shown` : ''}</span
    >{/if}
</div>
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="overflow-auto max-h-96 px-3 py-2 text-[0.85rem]" tabindex="0" role="region" aria-label="Body of the answer">
  {#if look === 'table' && table}
    <table class="list-table">
      <thead
        ><tr
          >{#each table.columns as column (column)}<th>{column}</th>{/each}</tr
        ></thead
      ><tbody
        >{#each table.rows.slice(0, SHOWN) as row, at (at)}<tr
            >{#each table.columns as column (column)}<td class="mono">{row[column] ?? ''}</td>{/each}</tr
          >{/each}</tbody
      >
    </table>
  {:else if look === 'tree' && parsed}{@render node(parsed.value, null, 0)}
  {:else}<pre class="whitespace-pre-wrap break-words">{body || '(empty)'}</pre>{/if}
</div>
