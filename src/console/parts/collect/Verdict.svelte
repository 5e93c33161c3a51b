<script lang="ts">
  import Check from '@lucide/svelte/icons/check';
  import Info from '@lucide/svelte/icons/info';
  import X from '@lucide/svelte/icons/x';
  import type { Run } from '../../../api/jobs.ts';
  import { COMPLETENESS_WORDS, RUN_WORDS } from '../../../api/vocabulary.ts';
  import { recordsInWords } from '../../state/collecting.svelte.ts';
  import VocabularyMark from '../VocabularyMark.svelte';

  /** How a run ended: the verdict first, then its evidence, or what failed and what to do. */
  const { run }: { run: Run } = $props();
  const word = $derived(run.completeness ? COMPLETENESS_WORDS[run.completeness.verdict] : RUN_WORDS[run.state]);
  const SIDES = {
    for: { icon: Check, label: 'for', tone: 'text-success' },
    against: { icon: X, label: 'against', tone: 'text-error' },
    note: { icon: Info, label: 'note', tone: 'text-base-content/70' },
  };
</script>

<div role="status" class="mb-2">
  <p class="flex flex-wrap items-center gap-x-3">
    <VocabularyMark {word} /><span class="font-semibold">{recordsInWords(run)}</span>
    <span class="text-base-content/70">{run.calls} calls, {run.seconds} s{run.doubles > 0 ? `, ${run.doubles} doubles removed` : ''}</span>
  </p>
  {#if run.completeness}
    <ul class="mt-1">
      {#each run.completeness.evidence as one (one.says)}
        {@const side = SIDES[one.side]}
        <li class="flex gap-1.5">
          <side.icon size={16} class={['mt-0.5 shrink-0', side.tone]} aria-label={side.label} />{one.says}
        </li>
      {/each}
    </ul>
  {/if}
  {#if run.problem}
    <p class="mt-1 text-error font-semibold">{run.problem.says}</p>
    <p>{run.problem.remedy}</p>
  {/if}
</div>
