<script lang="ts">
  import Drama from '@lucide/svelte/icons/drama';

  /** Stands wherever something belongs to a rehearsal, so that nobody takes it for real. */
</script>

<span
  class="inline-flex items-center gap-1 align-middle whitespace-nowrap font-semibold text-sm border border-current rounded px-1.5 text-info"
  title="At a simulated provider on this machine: nothing here is real"><Drama size={14} aria-hidden="true" />rehearsal</span
>
