<script lang="ts">
  /** A name under which the composed call is kept. */
  interface Props {
    saved: string | null;
    busy: boolean;
    save: (name: string) => Promise<unknown>;
  }
  const { saved, busy, save }: Props = $props();
  let name = $state('');
  const keep = async () => {
    await save(name.trim());
    name = '';
  };
</script>

<h2 class="mt-4 mb-1">Save this call</h2>
<div class="flex gap-2">
  <input
    class="input input-sm grow mono"
    aria-label="Name of the saved call"
    placeholder={saved ?? 'a name'}
    pattern="[a-z0-9][a-z0-9._\-]*"
    bind:value={name}
  /><button class="btn btn-sm" disabled={busy || name.trim() === ''} onclick={keep}>Save call</button>
</div>
<p class="text-sm text-base-content/70">
  A name in braces, such as <code>{'{table}'}</code>, is filled in at each call; where it has a value now, that one is kept.
</p>
