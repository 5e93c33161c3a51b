<script lang="ts">
  import { LINE_VERDICTS } from '../../api/vocabulary.ts';
  import VocabularyMark from './VocabularyMark.svelte';
  import type { Connection } from '../../api/connections.ts';
  import Time from '../ui/Time.svelte';

  /** Expiration and renewal: what keeps it active, what ends it first and when, which account it depends on, and what was seen. */
  const { lifetime }: { lifetime: Connection['lifetime'] } = $props();
</script>

<p class="font-semibold mb-1">{lifetime.says}</p>
<table class="list-table max-w-5xl">
  <tbody>
    {#each lifetime.lines as line (line.what)}
      <tr
        ><td class="w-28"><VocabularyMark word={LINE_VERDICTS[line.verdict]} /></td><td class="w-28">{line.what}</td><td
          >{line.says}{#if line.remedy}<div class="text-sm"><strong>What to do:</strong> {line.remedy}</div>{/if}</td
        ></tr
      >
    {/each}
    {#each lifetime.ends as end (end.what)}<tr><td class="w-28"></td><td>{end.what}</td><td>expires <Time at={end.at} /></td></tr>{/each}
  </tbody>
</table>
