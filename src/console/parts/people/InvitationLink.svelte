<script lang="ts">
  import type { Invited } from '../../../api/people.ts';
  import Copy from '../../ui/Copy.svelte';
  import Time from '../../ui/Time.svelte';

  /** A link that was just made, as text and as a code for a phone. It is shown this once. */
  const { invited, close }: { invited: Invited; close: () => void } = $props();
  const drawn = $derived(import('qrcode').then((code) => code.toDataURL(invited.url, { margin: 1, scale: 5 })));
</script>

<section class="border-l-4 border-success bg-base-200 px-4 py-3 mb-4 max-w-2xl" aria-label="The link" role="status">
  <p class="font-semibold mb-1">Send this link to {invited.person}. It is shown this once.</p>
  <Copy value={invited.url} label="the link" />
  <p class="text-sm my-1">It expires <Time at={invited.expires_at} />.</p>
  {#await drawn then image}<img src={image} alt="The link as a QR code" width="165" height="165" class="my-2" />{/await}
  <button class="btn btn-sm" onclick={close}>Invite another person</button>
</section>
