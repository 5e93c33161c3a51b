<script lang="ts">
  import Check from '@lucide/svelte/icons/check';
  import CopyIcon from '@lucide/svelte/icons/copy';

  /** A value to paste elsewhere, with a button that copies it. */
  const { value, label }: { value: string; label: string } = $props();
  let copied = $state(false);
  async function copy() {
    await navigator.clipboard.writeText(value);
    copied = true;
    setTimeout(() => (copied = false), 2_000);
  }
</script>

<span class="inline-flex max-w-full items-center gap-1">
  <code class="bg-base-200 px-1.5 py-0.5 min-w-0 truncate" title={value}>{value}</code>
  <button type="button" class="btn btn-xs btn-ghost shrink-0 w-20 justify-start" onclick={copy} aria-label={`Copy ${label}`}>
    {#if copied}<Check size={14} aria-hidden="true" />Copied{:else}<CopyIcon size={14} aria-hidden="true" />Copy{/if}
  </button>
</span>
