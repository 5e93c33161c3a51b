<script lang="ts">
  import { MASK } from '../../core/calls/stored-values.ts';

  /** Some values of a form are not shown. They are used as they are stored, unless they are replaced. */
  interface Props {
    /** What has them; null: all values are shown. */
    name: string | null;
    busy: boolean;
    show(name: string): Promise<unknown>;
  }
  const { name, busy, show }: Props = $props();
</script>

{#if name !== null}
  <p class="text-sm mb-2">
    <code>{MASK}</code> is a stored value that may be a secret. It is used as it is.
    <button type="button" class="btn btn-xs" disabled={busy} onclick={() => show(name)}>Show values</button>
    <span class="text-base-content/70">Activity records who looked.</span>
  </p>
{/if}
