<script lang="ts">
  import type { Diagnosis } from '../../api/diagnosis.ts';
  import { HALF_LABELS, SIDE_LABELS, VERDICT_LABELS } from '../../api/vocabulary.ts';

  /** Verdict first, then cause, evidence, whose side, remedy. */
  const { diagnosis: d }: { diagnosis: Diagnosis } = $props();
</script>

<div class="border-l-4 border-warning bg-base-200 px-4 py-2 my-2 max-w-5xl" role="group" aria-label="Diagnosis">
  <p class="font-semibold">
    {VERDICT_LABELS[d.verdict]}{#if d.half}: {HALF_LABELS[d.half]}{/if}
  </p>
  <p>
    {d.title}{#if !d.certain}{' '}<span class="text-base-content/70">This is the likeliest of several.</span>{/if}
  </p>
  {#if d.evidence.length > 0}<ul class="list-disc ml-5 text-sm">
      {#each d.evidence as line, at (at)}<li class="break-words">{line}</li>{/each}
    </ul>{/if}
  {#if d.also.length > 0}<p class="text-sm text-base-content/80">It could also be: {d.also.join(' Or: ')}</p>{/if}
  <p><strong>What to do,</strong> at {SIDE_LABELS[d.side]}: {d.remedy}</p>
</div>
