<script lang="ts">
  import type { HistoryEntry } from '../../api/common.ts';
  import Moment from './Moment.svelte';

  const { items }: { items: HistoryEntry[] } = $props();
</script>

{#if items.length === 0}
  <p class="text-base-content/70">Nothing has happened yet.</p>
{:else}
  <table class="list-table">
    <thead><tr><th class="w-28">When</th><th class="w-32">Who</th><th>What</th></tr></thead>
    <tbody
      >{#each items as entry (entry.id)}<tr
          ><td><Moment at={entry.at} /></td><td>{entry.actor}</td><td
            >{entry.says}{#if entry.data.class && entry.data.class !== 'tokens'}
              <span class="text-sm text-base-content/70">class: {String(entry.data.class).replaceAll('_', ' ')}</span>{/if}</td
          ></tr
        >{/each}</tbody
    >
  </table>
{/if}
