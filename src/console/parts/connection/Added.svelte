<script lang="ts">
  import { push } from 'svelte-spa-router';
  import type { Connection } from '../../../api/connections.ts';
  import AdminConsentNote from '../AdminConsentNote.svelte';
  import OtherWays from '../OtherWays.svelte';
  import ReadyNote from '../ReadyNote.svelte';
  import Reconnect from '../Reconnect.svelte';

  /** A connection that was just added: the way to its consent. */
  const { added }: { added: Connection } = $props();
  const way = $derived(added.ways.includes('redirect') ? undefined : added.ways.includes('pasted') ? ('pasted' as const) : added.ways[0]);
  const title = $derived(added.provider_title);
</script>

<div class="panel px-4 py-3 max-w-2xl">
  <p class="mb-2">
    <strong>{added.name}</strong> is added. {added.ways[0] === 'by_itself'
      ? 'The client requests its own token. No consent is needed.'
      : added.ways[0] === 'printed'
        ? `Next: copy the code that ${title}’s console shows, and paste it here.`
        : way === 'pasted'
          ? `Next: someone consents at ${title}. Then paste the address from the browser’s address bar.`
          : way === 'device'
            ? 'Next: someone enters a code on another device.'
            : `Next: someone consents at ${title}, in a new tab. This page waits for it.`}
  </p>
  <div class="flex flex-wrap gap-2">
    <Reconnect connection={added.name} {way} label={added.ways[0] === 'by_itself' ? `Ask ${title}` : `Go to ${title}`} /><button
      class="btn btn-sm"
      onclick={() => push(`/connections/${added.name}`)}>Later</button
    >
  </div>
</div>
<div class="mt-4"><ReadyNote ready={added.ready} /></div>
<AdminConsentNote connection={added} />
<OtherWays connection={added} done={() => push(`/connections/${added.name}`)} />
