<script lang="ts">
  import type { UpcomingItem } from '../../../api/upcoming.ts';
  import { lanes, weeks } from '../../state/upcoming.ts';

  /** What ends when: one lane for each kind, today on the left, the lead time as a band. The table beneath has the same. */
  const { items, now, days }: { items: UpcomingItem[]; now: number; days: number } = $props();
  const shown = $derived(lanes(items, now, days));
  const marks = $derived(weeks(now, days));
  const TONES = { late: 'bg-error', now: 'bg-warning', later: 'bg-primary' };
</script>

<div class="panel px-4 pt-3 pb-2 mb-4" aria-hidden="true">
  {#each shown as lane (lane.kind)}
    <div class="grid grid-cols-[6rem_1fr] md:grid-cols-[9rem_1fr] items-center gap-3 h-8">
      <span class="text-sm truncate">{lane.label}</span>
      <div class="relative h-full border-b border-base-300">
        {#each lane.marks as mark (mark.item.key)}
          <span
            class={['absolute top-1/2 h-2 -translate-y-1/2 opacity-40', TONES[mark.urgency]]}
            style:left={`${mark.from}%`}
            style:width={`${mark.at - mark.from}%`}
          ></span>
          <a
            class={['absolute top-1/2 size-3 -translate-x-1/2 -translate-y-1/2 rounded-full', TONES[mark.urgency]]}
            style:left={`${mark.at}%`}
            href={`#${mark.item.page}`}
            tabindex="-1"
            title={`${mark.item.what}: ${mark.item.at.slice(0, 10)}`}><span class="sr-only">{mark.item.what}</span></a
          >
        {/each}
      </div>
    </div>
  {/each}
  <div class="grid grid-cols-[6rem_1fr] md:grid-cols-[9rem_1fr] gap-3 h-5">
    <span></span>
    <div class="relative text-xs text-base-content/70">
      {#each marks as mark (mark.at)}<span
          class="absolute -translate-x-1/2 first:translate-x-0 whitespace-nowrap"
          style:left={`${mark.at}%`}>{mark.label}</span
        >{/each}
    </div>
  </div>
</div>
