<script lang="ts">
  import Check from '@lucide/svelte/icons/check';
  import Minus from '@lucide/svelte/icons/minus';
  import type { Connection } from '../../api/connections.ts';

  /** Registered at the provider, requested here, granted by the person, needed by the ticked operations: four lists, one table. */
  const { connection: c }: { connection: Connection } = $props();
  const UNKNOWN: Record<string, string> = {
    Needed: 'no operation selected',
    Granted: 'no consent yet',
    'Registered at the provider': 'not entered',
  };
  const columns = $derived([
    { name: 'Registered at the provider', scopes: c.scopes_registered, known: c.scopes_registered.length > 0 },
    { name: 'Requested', scopes: [...c.scopes_requested, ...c.scopes_by_themselves], known: true },
    { name: 'Granted', scopes: c.scopes_granted ?? [], known: c.scopes_granted !== null },
    { name: 'Needed', scopes: c.scopes_needed, known: c.operations.length > 0 },
  ]);
  const all = $derived([...new Set(columns.flatMap((column) => column.scopes))]);
  /** Odd: needed and not held, or requested and neither registered nor granted. */
  const odd = (scope: string) => {
    const [registered, requested, granted, needed] = columns.map((column) => column.scopes.includes(scope));
    const held = c.scopes_granted === null ? requested : granted;
    return (needed && !held) || (requested && ((columns[0]?.known && !registered) || (columns[2]?.known && !granted)));
  };
</script>

<div class="overflow-x-auto">
  <table class="list-table">
    <thead
      ><tr
        ><th>Scope</th>{#each columns as column (column.name)}<th class="w-36"
            >{column.name}{#if !column.known}<span class="block font-normal text-sm">{UNKNOWN[column.name]}</span>{/if}</th
          >{/each}</tr
      ></thead
    >
    <tbody
      >{#each all as scope (scope)}<tr class={odd(scope) ? 'text-warning font-semibold' : ''}
          ><td><code>{scope}</code></td>{#each columns as column (column.name)}<td
              >{#if column.scopes.includes(scope)}<Check size={16} aria-label="yes" />{:else}<Minus
                  size={16}
                  class="opacity-40"
                  aria-label={column.known ? 'no' : 'not known'}
                />{/if}</td
            >{/each}</tr
        >{:else}<tr><td colspan="5">No scopes are requested.</td></tr>{/each}</tbody
    >
  </table>
</div>
