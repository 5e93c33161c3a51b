<script lang="ts">
  import { Command, Dialog } from 'bits-ui';
  import { push } from 'svelte-spa-router';
  import { keyOf, Palette } from '../state/palette.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  /** Finds any object, page or action, by keyboard alone. */
  let { open = $bindable() }: { open: boolean } = $props();
  const palette = new Palette(call);
  $effect(() => {
    if (open) void palette.open().catch(() => undefined); // pages and actions are found without the service
  });
  const go = (href: string) => {
    open = false;
    void push(href);
  };
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="dialog-cover" />
    <Dialog.Content aria-label="Find" class="dialog-panel top-[12vh] w-[min(36rem,94vw)] overflow-hidden">
      <Dialog.Title class="sr-only">Find an object, a page or an action</Dialog.Title>
      <Command.Root shouldFilter={false} label="Find" loop bind:value={() => palette.selected, (key) => palette.choose(key)}>
        <Command.Input
          class="w-full px-4 py-3 bg-transparent outline-none border-b border-base-300"
          placeholder="Find a connection, provider, client, caller, page or action"
          value={palette.text}
          oninput={(event) => palette.type(event.currentTarget.value)}
        />
        <Command.List class="max-h-[55vh] overflow-y-auto p-1">
          <Command.Viewport>
            {#if palette.found.length === 0}<p class="px-3 py-4 text-base-content/70">Nothing matches.</p>{/if}
            {#each palette.found as one (keyOf(one))}
              <Command.Item
                value={keyOf(one)}
                class="flex items-baseline gap-3 px-3 py-1.5 rounded-field cursor-pointer data-selected:bg-base-200"
                onSelect={() => go(one.href)}
              >
                <span class="w-24 shrink-0 text-sm text-base-content/70">{one.kind}</span><span class="font-semibold">{one.text}</span><span
                  class="ml-auto truncate text-sm text-base-content/70">{one.note}</span
                >
              </Command.Item>
            {/each}
          </Command.Viewport>
        </Command.List>
      </Command.Root>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
