<script lang="ts">
  import type { RehearsalReport } from '../../../api/rehearsals.ts';
  import { rehearsalLanes, rehearsalTicks } from '../../state/rehearsal-lanes.ts';

  /** What happened when, at a glance. The tables beneath have the same. */
  const { report }: { report: RehearsalReport } = $props();
  const MAX_SHOWN = 14;
  const all = $derived(rehearsalLanes(report));
  const lanes = $derived(all.slice(0, MAX_SHOWN));
  const ticks = $derived(rehearsalTicks(report));
  const TONES = { good: 'bg-success', warn: 'bg-warning', bad: 'bg-error' };
</script>

<div class="panel px-4 pt-3 pb-2 mb-4" aria-hidden="true">
  {#each lanes as lane, at (at)}
    <div class="grid grid-cols-[8rem_1fr] md:grid-cols-[17rem_1fr] items-center gap-3 h-7">
      <span class="text-sm truncate" title={lane.label}
        >{lane.label}{#if lane.of !== 'connection'}<span class="text-base-content/70">{` ${lane.of}`}</span>{/if}</span
      >
      <div class="relative h-3 bg-base-300">
        {#each lane.bars as bar, position (position)}<span
            class={['absolute inset-y-0', TONES[bar.tone]]}
            style:left={`${bar.from}%`}
            style:width={`${bar.width}%`}
            title={bar.says}
          ></span>{/each}
      </div>
    </div>
  {/each}
  {#if all.length > lanes.length}<p class="text-sm text-base-content/70">{all.length - lanes.length} more, in the tables below.</p>{/if}
  <div class="grid grid-cols-[8rem_1fr] md:grid-cols-[17rem_1fr] gap-3 h-5">
    <span></span>
    <div class="relative text-xs text-base-content/70">
      {#each ticks as tick (tick.at)}<span
          class="absolute -translate-x-1/2 first:translate-x-0 last:-translate-x-full whitespace-nowrap"
          style:left={`${tick.at}%`}>{tick.label}</span
        >{/each}
    </div>
  </div>
</div>
<p class="text-sm text-base-content/70 -mt-2 mb-4" aria-hidden="true">
  <span class="inline-block size-2.5 bg-success"></span> worked <span class="inline-block size-2.5 bg-warning ml-3"></span> degraded
  <span class="inline-block size-2.5 bg-error ml-3"></span> refused or action needed
  <span class="inline-block size-2.5 bg-base-300 ml-3"></span> no failure
</p>
