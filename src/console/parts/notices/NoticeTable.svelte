<script lang="ts">
  import type { Notice } from '../../../api/notices.ts';
  import { NOTICE_SEVERITIES } from '../../../api/vocabulary.ts';
  import { byUrgency, takenBy } from '../../state/notices.svelte.ts';
  import { clock } from '../../state/clock.svelte.ts';
  import Time from '../../ui/Time.svelte';
  import VocabularyMark from '../VocabularyMark.svelte';

  /** Notices, the worst first: what it is, whom it concerns, and where it is fixed. */
  const { items, most = 500 }: { items: readonly Notice[]; most?: number } = $props();
  const sorted = $derived([...items].sort(byUrgency).slice(0, most));
</script>

<div class="overflow-x-auto">
  <table class="list-table">
    <caption class="sr-only">Notices</caption>
    <thead>
      <tr>
        <th class="lg:w-36">Severity</th><th>Notice</th><th class="lg:w-32">Date</th><th>What to do</th><th class="lg:w-36">Since</th>
      </tr>
    </thead>
    <tbody>
      {#each sorted as one (one.id)}
        <tr>
          <td data-label="Severity"><VocabularyMark word={NOTICE_SEVERITIES[one.severity]} /></td>
          <td data-label="Notice" class="font-semibold"
            ><a class="link" href={`#/notices/${one.id}`}>{one.title}</a>
            {#if one.connections > 1}<div class="text-sm font-normal text-base-content/70">{one.connections} connections</div>{/if}</td
          >
          <td data-label="Date"><Time at={one.due_at} none="–" /></td>
          <td data-label="What to do"
            >{one.remedy}
            {#if one.state === 'open'}<a class="link whitespace-nowrap" href={`#${one.page}`}>Fix it</a>{/if}</td
          >
          <td data-label="Since"
            ><Time at={one.opened_at} />
            <div class="text-sm text-base-content/70">{takenBy(one, clock.now)}</div></td
          >
        </tr>
      {/each}
    </tbody>
  </table>
</div>
