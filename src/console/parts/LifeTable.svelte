<script lang="ts">
  import { LINE_VERDICTS } from '../../api/vocabulary.ts';
  import VocabularyMark from './VocabularyMark.svelte';
  import type { Connection } from '../../api/connections.ts';
  import Moment from './Moment.svelte';

  /** Will it live? What keeps it alive, what ends it first and when, on whose account it hangs, and what was seen. */
  const { live }: { live: Connection['live'] } = $props();
</script>

<p class="font-semibold mb-1">{live.says}</p>
<table class="list-table max-w-5xl"><tbody>
  {#each live.lines as line (line.what)}
    <tr><td class="w-28"><VocabularyMark word={LINE_VERDICTS[line.verdict]} /></td><td class="w-28">{line.what}</td><td>{line.says}{#if line.remedy}<div class="text-sm"><strong>What to do:</strong> {line.remedy}</div>{/if}</td></tr>
  {/each}
  {#each live.ends as end (end.what)}<tr><td class="w-28"></td><td>{end.what}</td><td>ends <Moment at={end.at} /></td></tr>{/each}
</tbody></table>
