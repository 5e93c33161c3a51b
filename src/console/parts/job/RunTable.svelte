<script lang="ts">
  import type { Run } from '../../../api/jobs.ts';
  import { COMPLETENESS_WORDS, RUN_WORDS } from '../../../api/vocabulary.ts';
  import { progressInWords } from '../../state/collecting.svelte.ts';
  import Time from '../../ui/Time.svelte';
  import Verdict from '../collect/Verdict.svelte';
  import VocabularyMark from '../VocabularyMark.svelte';

  /** Runs of a job, newest first; the evidence of each opens below it. */
  const { runs }: { runs: readonly Run[] } = $props();
  let opened = $state<string | null>(null);
  const difference = (run: Run) => {
    if (run.difference === null || run.difference === 0) return run.difference === null ? '' : '0';
    return run.difference > 0 ? `+${run.difference}` : `−${Math.abs(run.difference)}`;
  };
</script>

<table class="list-table">
  <caption class="sr-only">Runs</caption>
  <thead>
    <tr
      ><th class="w-16">Run</th><th class="w-28">Started</th><th>State</th><th>Verdict</th><th class="text-right">Records</th><th
        class="text-right">Difference</th
      ><th class="text-right">Pages</th><th class="text-right">Seconds</th><th class="w-24"><span class="sr-only">Evidence</span></th></tr
    >
  </thead>
  <tbody>
    {#each runs as run (run.id)}
      <tr>
        <td data-label="Run" class="tabular-nums">{run.number}</td>
        <td data-label="Started"><Time at={run.started_at} /></td>
        <td data-label="State"
          ><VocabularyMark word={RUN_WORDS[run.state]} />{#if run.state === 'running'}<div class="text-sm">
              {progressInWords(run)}
            </div>{/if}{#if run.waits}<div class="text-sm max-w-72">
              {run.waits.says}
            </div>{/if}</td
        >
        <td data-label="Verdict"
          >{#if run.completeness}<VocabularyMark word={COMPLETENESS_WORDS[run.completeness.verdict]} />{:else}–{/if}</td
        >
        <td data-label="Records" class="text-right tabular-nums">{run.records.toLocaleString('en-US')}{run.full ? '' : ' new'}</td>
        <td data-label="Difference" class="text-right tabular-nums">{difference(run)}</td>
        <td data-label="Pages" class="text-right tabular-nums">{run.pages}</td>
        <td data-label="Seconds" class="text-right tabular-nums">{run.seconds}</td>
        <td
          ><button class="btn btn-xs" aria-expanded={opened === run.id} onclick={() => (opened = opened === run.id ? null : run.id)}
            >Evidence</button
          ></td
        >
      </tr>
      {#if opened === run.id}
        <tr
          ><td colspan="9" class="bg-base-200"
            ><Verdict {run} />
            {#each run.deliveries as one (one.target)}<p>{one.target}: {one.state}. {one.says}</p>{/each}</td
          ></tr
        >
      {/if}
    {/each}
  </tbody>
</table>
