<script lang="ts">
  import type { Snippet } from 'svelte';

  /** The head of a page: where it stands, its name, its actions. */
  const { title, up = null, children }: { title: string; up?: { href: string; name: string } | null; children?: Snippet } = $props();
</script>

<svelte:head><title>{title} – Rusty Kettle</title></svelte:head>
<div class="flex flex-wrap items-end gap-x-4 gap-y-2 mb-4">
  <div class="min-w-0">
    {#if up}<p class="text-sm"><a class="link" href={up.href}>{up.name}</a></p>{/if}
    <h1 class="break-words">{title}</h1>
  </div>
  {#if children}<div class="ml-auto flex flex-wrap gap-2">{@render children()}</div>{/if}
</div>
