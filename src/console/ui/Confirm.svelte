<script lang="ts">
  import { AlertDialog } from 'bits-ui';
  import type { Snippet } from 'svelte';
  import type { Problem } from '../../api/problem.ts';
  import ProblemNote from '../parts/ProblemNote.svelte';

  /** Asks before something is destroyed, and shows what stops. It stays open while the work runs, and when it fails. */
  let {
    open = $bindable(),
    title,
    action,
    busy = false,
    problem = null,
    run,
    children,
  }: {
    open: boolean;
    title: string;
    action: string;
    busy?: boolean;
    problem?: Problem | null;
    run(): Promise<unknown>;
    children: Snippet;
  } = $props();
</script>

<AlertDialog.Root bind:open>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="dialog-cover" />
    <AlertDialog.Content class="dialog-panel top-1/2 -translate-y-1/2 w-[min(34rem,92vw)] max-h-[85vh] overflow-y-auto p-5">
      <AlertDialog.Title class="text-lg font-semibold mb-2">{title}</AlertDialog.Title>
      <AlertDialog.Description>{#snippet child({ props })}<div {...props}>{@render children()}</div>{/snippet}</AlertDialog.Description>
      <ProblemNote {problem} />
      <div class="flex justify-end gap-2 mt-4">
        <AlertDialog.Cancel class="btn btn-sm">Cancel</AlertDialog.Cancel>
        <button type="button" class="btn btn-sm btn-error" disabled={busy} onclick={run}>{busy ? 'Working…' : action}</button>
      </div>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
