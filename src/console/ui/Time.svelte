<script lang="ts">
  import { clock } from '../state/clock.svelte.ts';
  import { relativeTime } from '../../api/relative-time.ts';
  import { exact } from '../state/moments.ts';

  /** A time, relative, with the exact one at hand. */
  const { at, none = '–' }: { at: string | null; none?: string } = $props();
  const instant = $derived(at === null ? null : Date.parse(at));
</script>

{#if instant === null}{none}{:else}<time datetime={at} title={exact(instant)} class="whitespace-nowrap tabular-nums"
    >{relativeTime(instant, clock.now)}</time
  >{/if}
