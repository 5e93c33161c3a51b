<script lang="ts">
  import type { HistoryEntry } from '../../api/common.ts';
  import { subjectLink } from '../state/subject-link.ts';
  import Time from '../ui/Time.svelte';

  const { items, withSubject = false }: { items: HistoryEntry[]; withSubject?: boolean } = $props();
  const classOf = (entry: HistoryEntry) =>
    entry.data.class && entry.data.class !== 'tokens' ? `class: ${String(entry.data.class).replaceAll('_', ' ')}` : '';
</script>

{#if items.length === 0}
  <p class="text-base-content/70">Nothing has happened yet.</p>
{:else}
  <table class="list-table">
    <thead>
      <tr
        ><th class="w-28">When</th><th class="w-32">Who</th>{#if withSubject}<th class="w-56">Where</th>{/if}<th>What</th></tr
      >
    </thead>
    <tbody>
      {#each items as entry (entry.id)}
        {@const link = subjectLink(entry.subject)}
        <tr>
          <td data-label="When"><Time at={entry.at} /></td>
          <td data-label="Who">{entry.actor}</td>
          {#if withSubject}<td data-label="Where"
              >{#if link}<a class="link" href={link.href}>{link.text}</a>{:else}{entry.subject}{/if}</td
            >{/if}
          <td data-label="What">{entry.says} <span class="text-sm text-base-content/70">{classOf(entry)}</span></td>
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
