<script lang="ts">
  import { Dialog } from 'bits-ui';
  import { SHORTCUTS } from '../state/shortcuts.ts';

  let { open = $bindable() }: { open: boolean } = $props();
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="dialog-cover" />
    <Dialog.Content class="dialog-panel top-1/4 w-[min(34rem,92vw)] p-5">
      <Dialog.Title class="text-lg font-semibold mb-3">Keyboard shortcuts</Dialog.Title>
      <dl class="facts">
        {#each SHORTCUTS as one (one.keys)}<dt><kbd class="mono">{one.keys}</kbd></dt>
          <dd>{one.does}</dd>{/each}
      </dl>
      <p class="text-right mt-4"><Dialog.Close class="btn btn-sm">Close</Dialog.Close></p>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
