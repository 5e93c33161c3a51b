<script lang="ts">
  import type { Run } from '../../../api/jobs.ts';
  import { barsOf } from '../../state/run-bars.ts';

  /** Records and durations of the last runs, the newest at the right; the table below holds the same figures. */
  const { runs }: { runs: readonly Run[] } = $props();
  const bars = $derived(barsOf(runs));
  const WIDTH = 600;
  const HEIGHT = 70;
  /** Few runs stay narrow. */
  const LEAST = 24;
  const slot = $derived(WIDTH / Math.max(LEAST, bars.items.length));
</script>

{#snippet chart(title: string, of: 'records' | 'seconds', note: string)}
  <figure class="min-w-0">
    <figcaption class="text-sm"><span class="font-semibold">{title}</span> <span class="text-base-content/70">{note}</span></figcaption>
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} preserveAspectRatio="none" class="w-full h-20" role="img" aria-label={`${title}: ${note}`}>
      <line x1="0" x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} class="stroke-base-300" />
      {#each bars.items as bar, at (bar.number)}
        <rect
          x={at * slot + 1}
          width={Math.max(1, slot - 2)}
          y={HEIGHT - Math.max(1, bar[of] * (HEIGHT - 4))}
          height={Math.max(1, bar[of] * (HEIGHT - 4))}
          class={bar.tone}><title>{bar.says}</title></rect
        >
      {/each}
    </svg>
  </figure>
{/snippet}

{#if bars.items.length > 1}
  <div class="grid lg:grid-cols-2 gap-6 mb-4">
    {@render chart('Records', 'records', bars.recordsNote)}
    {@render chart('Duration', 'seconds', bars.secondsNote)}
  </div>
{/if}
