<script lang="ts">
  import Ellipsis from '@lucide/svelte/icons/ellipsis';
  import { DropdownMenu } from 'bits-ui';
  import type { MenuItem } from './menu.ts';

  /** Further actions of an object, behind a button. What destroys something stands last, apart from the others. */
  const { label = 'More actions', items }: { label?: string; items: readonly MenuItem[] } = $props();
  const [safe, destructive] = $derived([items.filter((item) => !item.destructive), items.filter((item) => item.destructive)]);
</script>

{#snippet entries(some: readonly MenuItem[])}
  {#each some as item (item.label)}
    <DropdownMenu.Item
      class={[
        'menu-item data-highlighted:bg-base-200 data-disabled:opacity-50 data-disabled:cursor-default',
        item.destructive && 'text-error',
      ]}
      disabled={item.disabled ?? false}
      onSelect={item.run}>{item.label}</DropdownMenu.Item
    >
  {/each}
{/snippet}

{#if items.length > 0}
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="btn btn-sm" aria-label={label}><Ellipsis size={16} aria-hidden="true" /></DropdownMenu.Trigger>
    <DropdownMenu.Portal>
      <DropdownMenu.Content
        align="end"
        sideOffset={4}
        class="z-20 min-w-48 rounded-box border border-base-300 bg-base-100 text-base-content p-1 shadow-lg"
      >
        {@render entries(safe)}
        {#if safe.length > 0 && destructive.length > 0}<DropdownMenu.Separator class="my-1 border-t border-base-300" />{/if}
        {@render entries(destructive)}
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
{/if}
