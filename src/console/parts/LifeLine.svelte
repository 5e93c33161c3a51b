<script lang="ts">
  import type { LifeLine } from '../../api/connections.ts';
  import { clock } from '../state/clock.svelte.ts';
  import { relativeTime } from '../../api/relative-time.ts';
  import { readLife } from '../state/life.ts';

  /** One thin strip: the token's lifetime from issue over due to expiry with now on it; below it, the last day's renewals as ticks. */
  const { life, tall = false }: { life: LifeLine | null; tall?: boolean } = $props();
  const seen = $derived(life && readLife(life, clock.now));
  const FILLS = { fresh: 'bg-success', due: 'bg-warning', over: 'bg-error' };
  const when = (at: string) => relativeTime(Date.parse(at), clock.now);
  const renewal = $derived(life?.due_at ? `renewal ${when(life.due_at)}` : 'no renewal planned');
  const says = $derived(
    life && seen
      ? `Token issued ${when(life.issued_at)}, ${renewal}, expires ${when(life.expires_at)}. ${life.renewed_at.length} renewals in 24 h.`
      : 'No token yet',
  );
</script>

<div class={['relative w-full', tall ? 'h-9' : 'h-5']} role="img" aria-label={says} title={says}>
  <div class={['absolute inset-x-0 top-0 bg-base-300 overflow-hidden', tall ? 'h-5' : 'h-2.5']}>
    {#if seen}
      {#if seen.due !== null}<div class="absolute inset-y-0 right-0 due-zone" style:left={`${seen.due}%`}></div>{/if}
      <div class={['absolute inset-y-0 left-0 passing', FILLS[seen.phase]]} style:width={`${seen.now}%`}></div>
      {#if seen.due !== null}<div class="absolute inset-y-0 w-px bg-base-content/60" style:left={`${seen.due}%`}></div>{/if}
      <div class="absolute inset-y-0 w-0.5 -ml-px bg-base-content passing" style:left={`${seen.now}%`}></div>
    {/if}
  </div>
  <div class={['absolute inset-x-0 bottom-0 border-b border-base-300', tall ? 'h-3' : 'h-2']}>
    {#each seen?.ticks ?? [] as tick, at (at)}<div class="absolute bottom-0 h-full w-px bg-success" style:left={`${tick}%`}></div>{/each}
  </div>
</div>

<style>
  .passing {
    transition:
      width 1s linear,
      left 1s linear;
  }
  .due-zone {
    background: repeating-linear-gradient(-45deg, transparent 0 3px, color-mix(in oklab, var(--color-warning) 55%, transparent) 3px 5px);
  }
</style>
