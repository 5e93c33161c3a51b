<script lang="ts">
  import type { OfferedCalls, OfferedOperation, SavedCall } from '../../api/trying.ts';

  /** What can be begun with: saved calls, and the operations of the API. */
  interface Props {
    offered: OfferedCalls;
    take: (operation: OfferedOperation) => void;
    open: (saved: SavedCall) => void;
    remove: (saved: SavedCall) => void;
  }
  const { offered, take, open, remove }: Props = $props();
  let search = $state('');
  let asking = $state<string | null>(null);
  const SHOWN = 80;
  const found = $derived(
    offered.operations.filter((one) => `${one.method} ${one.path} ${one.id} ${one.says}`.toLowerCase().includes(search.toLowerCase())),
  );
</script>

<h2 class="mb-1">Saved calls</h2>
{#each offered.saved as one (one.name)}
  <div class="flex items-baseline gap-2 py-0.5">
    <button type="button" class="link text-left" onclick={() => open(one)}>{one.name}</button><span
      class="text-sm text-base-content/70 truncate">{one.says || `${one.call.method} ${one.call.path}`}</span
    >
    {#if asking === one.name}<button
        class="btn btn-xs btn-error ml-auto"
        onclick={() => {
          asking = null;
          remove(one);
        }}>Remove it</button
      ><button class="btn btn-xs" onclick={() => (asking = null)}>Cancel</button>{:else}<button
        class="btn btn-xs btn-ghost ml-auto"
        aria-label={`Remove ${one.name}`}
        onclick={() => (asking = one.name)}>Remove…</button
      >{/if}
  </div>
{:else}<p class="text-base-content/70">None yet: compose a call, then save it for everyone.</p>{/each}
<h2 class="mt-4 mb-1">Operations of the API</h2>
{#if offered.operations.length > 12}<input
    class="input input-sm w-full mb-1"
    type="search"
    aria-label="Search operations"
    placeholder="Search operations"
    bind:value={search}
  />{/if}
{#each found.slice(0, SHOWN) as one (one.id)}
  <button type="button" class="block w-full text-left py-0.5 hover:bg-base-200 cursor-pointer" onclick={() => take(one)}
    ><code>{one.method} {one.path}</code> <span>{one.says}</span>{#if !one.allowed}<span class="block text-sm text-warning"
        >needs {one.needs.map((list) => list.join(' + ')).join(' or ')}: not granted</span
      >{/if}</button
  >
{:else}<p class="text-base-content/70">
    {offered.operations.length === 0 ? 'The definition names none; any other path can be called too.' : 'Nothing fits.'}
  </p>{/each}
{#if found.length > SHOWN}<p class="text-sm text-base-content/70">And {found.length - SHOWN} more: search for them.</p>{/if}
