<script lang="ts">
  import Self from './JsonNode.svelte';

  /** One value of a JSON tree; objects and lists fold. */
  const { value, name = null, depth = 0 }: { value: unknown; name?: string | null; depth?: number } = $props();
  const inner = $derived(typeof value === 'object' && value !== null ? Object.entries(value) : null);
  const MOST = 300;
</script>

{#if inner}
  <details open={depth < 2}>
    <summary class="cursor-pointer mono">{#if name !== null}<span class="text-info">{name}</span>:{' '}{/if}{Array.isArray(value) ? `[${inner.length}]` : `{${inner.length}}`}</summary>
    <div class="pl-4 border-l border-base-300 ml-1">{#each inner.slice(0, MOST) as [key, one] (key)}<Self value={one} name={key} depth={depth + 1} />{/each}{#if inner.length > MOST}<div>and {inner.length - MOST} more</div>{/if}</div>
  </details>
{:else}<div class="mono break-words">{#if name !== null}<span class="text-info">{name}</span>:{' '}{/if}<span class={typeof value === 'string' ? 'text-success' : 'text-warning'}>{JSON.stringify(value)}</span></div>{/if}
