<script lang="ts">
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import type { JobDraft } from '../../state/job-draft.svelte.ts';

  /** Which columns a result has, in which order and under which headings, and what becomes of personal ones. */
  const { draft }: { draft: JobDraft } = $props();
</script>

<fieldset class="mb-3">
  <legend class="font-semibold mb-1">Columns</legend>
  {#if draft.columns.length === 0}
    <p class="text-base-content/70">All, in the order in which they first appear. They are listed here after the first run.</p>
  {:else}
    <table class="list-table">
      <thead>
        <tr
          ><th class="w-8"><span class="sr-only">Chosen</span></th><th>Field</th><th>Heading</th><th>Personal</th><th class="w-20"
            ><span class="sr-only">Order</span></th
          ></tr
        >
      </thead>
      <tbody>
        {#each draft.columns as column, at (column.field)}
          <tr>
            <td><input type="checkbox" class="checkbox checkbox-sm" aria-label={`Include ${column.field}`} bind:checked={column.on} /></td>
            <td data-label="Field" class="mono">{column.field}</td>
            <td data-label="Heading"
              ><input
                class="input input-sm w-full"
                aria-label={`Heading of ${column.field}`}
                placeholder={column.field}
                bind:value={column.title}
              /></td
            >
            <td data-label="Personal"
              ><select
                class="select select-sm"
                aria-label={`Personal: ${column.field}`}
                value={draft.rules[column.field] ?? 'keep'}
                onchange={(event) => (draft.rules[column.field] = event.currentTarget.value as 'keep')}
                ><option value="keep">keep</option><option value="mask">mask</option><option value="hash">keyed hash</option><option
                  value="drop">drop</option
                ></select
              ></td
            >
            <td class="whitespace-nowrap"
              ><button
                type="button"
                class="btn btn-xs"
                aria-label={`Move ${column.field} up`}
                disabled={at === 0}
                onclick={() => draft.move(at, -1)}><ArrowUp size={13} aria-hidden="true" /></button
              >
              <button
                type="button"
                class="btn btn-xs"
                aria-label={`Move ${column.field} down`}
                disabled={at === draft.columns.length - 1}
                onclick={() => draft.move(at, 1)}><ArrowDown size={13} aria-hidden="true" /></button
              ></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
</fieldset>
