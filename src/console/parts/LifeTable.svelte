<script lang="ts">
  import CircleAlert from '@lucide/svelte/icons/circle-alert';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleHelp from '@lucide/svelte/icons/circle-question-mark';
  import type { Connection } from '../../api/connections.ts';
  import Moment from './Moment.svelte';

  /** Will it live? What keeps it alive, what ends it first and when, on whose account it hangs, and what was seen. */
  const { live }: { live: Connection['live'] } = $props();
  const LOOKS = {
    good: { icon: CircleCheck, word: 'good', colour: 'text-success' },
    doubt: { icon: CircleHelp, word: 'know this', colour: 'text-warning' },
    bad: { icon: CircleAlert, word: 'mind this', colour: 'text-error' },
  };
</script>

<p class="font-semibold mb-1">{live.says}</p>
<table class="list-table max-w-5xl"><tbody>
  {#each live.lines as line (line.what)}
    {@const look = LOOKS[line.verdict]}
    <tr><td class="w-28"><span class={['inline-flex items-center gap-1 whitespace-nowrap font-semibold', look.colour]}><look.icon size={15} aria-hidden="true" />{look.word}</span></td><td class="w-28">{line.what}</td><td>{line.says}{#if line.remedy}<div class="text-sm"><strong>What to do:</strong> {line.remedy}</div>{/if}</td></tr>
  {/each}
  {#each live.ends as end (end.what)}<tr><td class="w-28"></td><td>{end.what}</td><td>ends <Moment at={end.at} /></td></tr>{/each}
</tbody></table>
