<script lang="ts">
  import { LINE_VERDICTS } from '../../api/vocabulary.ts';
  import VocabularyMark from './VocabularyMark.svelte';
  import type { Client } from '../../api/clients.ts';

  /** The ready line before a consent, and what it is made of. */
  const { ready, open = false }: { ready: Client['ready']; open?: boolean } = $props();
  const missing = $derived(ready.lines.filter((line) => line.verdict === 'missing').length);
  const odd = $derived(ready.lines.filter((line) => line.verdict !== 'good'));
  const border = $derived.by(() => {
    if (!ready.ready) return 'border-error';
    return odd.length > 0 ? 'border-warning' : 'border-success';
  });
</script>

<div class={['border-l-4 pl-3 py-1 mb-4 max-w-5xl', border]} role="status" aria-label="Ready line">
  <p class="font-semibold">
    {ready.ready ? ready.says : `Not ready: ${missing === 1 ? 'one thing is' : `${missing} things are`} missing.`}
  </p>
  <details open={open || !ready.ready}>
    <summary class="cursor-pointer text-sm">Details of the check</summary>
    <table class="list-table mt-1">
      <tbody>
        {#each ready.lines as line, at (at)}
          <tr
            ><td class="w-28"><VocabularyMark word={LINE_VERDICTS[line.verdict]} /></td><td class="w-32">{line.what}</td><td
              class="break-words"
              >{line.says}{#if line.remedy}<div class="text-sm"><strong>What to do:</strong> {line.remedy}</div>{/if}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  </details>
</div>
