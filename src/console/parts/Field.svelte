<script lang="ts">
  import type { Snippet } from 'svelte';

  /** A label, its control, and a line of help. The control takes the id. */
  const { id, label, help = '', children }: { id: string; label: string; help?: string; children: Snippet } = $props();
</script>

<div class="mb-3">
  <label for={id} class="block font-semibold mb-0.5">{label}</label>
  {@render children()}
  {#if help}<p id={`${id}-help`} class="text-sm text-base-content/70 mt-0.5">{help}</p>{/if}
</div>
