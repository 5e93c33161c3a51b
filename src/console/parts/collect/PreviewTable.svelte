<script lang="ts">
  import type { Preview } from '../../../api/jobs.ts';

  /** The first records of a result, in its columns. */
  const { preview }: { preview: Preview } = $props();
</script>

{#if preview.rows.length === 0}
  <p class="text-base-content/70">No records.</p>
{:else}
  <!-- Wide: it scrolls in itself, and can be reached by keyboard. -->
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="overflow-x-auto panel max-h-96" tabindex="0" role="region" aria-label="The first records">
    <table class="table table-xs">
      <thead class="sticky top-0 bg-base-200">
        <tr
          >{#each preview.columns as column (column)}<th class="whitespace-nowrap text-base-content">{column}</th>{/each}</tr
        >
      </thead>
      <tbody>
        {#each preview.rows as row, at (at)}
          <tr
            >{#each row as cell, column (column)}<td class="max-w-64 truncate">{cell}</td>{/each}</tr
          >
        {/each}
      </tbody>
    </table>
  </div>
  <p class="text-sm text-base-content/70 mt-1">
    The first {preview.rows.length} of {preview.records.toLocaleString('en-US')} records.
  </p>
{/if}
