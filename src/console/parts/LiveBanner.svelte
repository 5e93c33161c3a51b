<script lang="ts">
  import type { OfferedCalls } from '../../api/trying.ts';

  /** In which environment calls are made: in capitals where what changes is real. */
  const { offered }: { offered: OfferedCalls } = $props();
  const live = $derived(offered.environment === 'live' && !offered.rehearsal);
  const consequence = $derived.by(() => {
    if (live) return 'What you change here is changed for real.';
    return offered.rehearsal ? 'A simulated provider: nothing here is real.' : 'Not the live environment.';
  });
</script>

<p
  class={[
    'px-4 py-2 mb-4 flex flex-wrap items-baseline gap-x-4 border-l-8',
    live ? 'border-error bg-error/10' : 'border-success bg-success/10',
  ]}
>
  <strong class={['text-2xl uppercase tracking-wide', live ? 'text-error' : 'text-success']}
    >{offered.rehearsal ? 'rehearsal' : offered.environment}</strong
  ><span>{consequence} <code class="break-all">{offered.base_url}</code></span>
</p>
