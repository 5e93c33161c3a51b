<script lang="ts">
  import { push } from 'svelte-spa-router';
  import { PLACES } from '../state/places.ts';
  import { shortcutReader } from '../state/shortcuts.ts';

  /** Listens for shortcuts; palette and list of shortcuts are fetched when they are opened first. */
  let { palette = $bindable() }: { palette: boolean } = $props();
  let help = $state(false);
  let wasPalette = $state(false);
  const read = shortcutReader(PLACES);
  $effect(() => {
    if (palette) wasPalette = true;
  });
  const isField = (target: EventTarget | null) =>
    target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));
  function onkeydown(event: KeyboardEvent) {
    const { key, ctrlKey, metaKey, altKey } = event;
    const shortcut = read({ key, ctrlKey, metaKey, altKey, inField: isField(event.target), at: event.timeStamp });
    if (!shortcut) return;
    event.preventDefault();
    if (shortcut.does === 'palette') palette = !palette;
    else if (shortcut.does === 'help') help = true;
    else if (shortcut.does === 'go') void push(shortcut.path);
    else document.querySelector<HTMLElement>('[data-search]')?.focus();
  }
</script>

<svelte:window {onkeydown} />
{#if wasPalette}{#await import('./CommandPalette.svelte') then { default: CommandPalette }}<CommandPalette
      bind:open={palette}
    />{/await}{/if}
{#if help}{#await import('./Shortcuts.svelte') then { default: Shortcuts }}<Shortcuts bind:open={help} />{/await}{/if}
