<script lang="ts">
  /** Uses in each of the last 60 minutes, the newest at the right. */
  const { minutes }: { minutes: number[] } = $props();
  const most = $derived(Math.max(1, ...minutes));
  const total = $derived(minutes.reduce((sum, one) => sum + one, 0));
</script>

<svg
  viewBox="0 0 180 18"
  class="h-4.5 w-45"
  role="img"
  aria-label={`${total} uses in the last hour, at most ${most === 1 && total === 0 ? 0 : most} a minute`}
>
  <line x1="0" x2="180" y1="17.5" y2="17.5" class="stroke-base-300" />
  {#each minutes as count, at (at)}{#if count > 0}<rect
        x={at * 3}
        y={17 - Math.max(2, (count / most) * 16)}
        width="2"
        height={Math.max(2, (count / most) * 16)}
        class="fill-success"
      />{/if}{/each}
</svg>
