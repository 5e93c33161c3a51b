<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import type { ConnectionWords } from '../../state/connection-words.ts';
  import AdminConsentNote from '../AdminConsentNote.svelte';
  import Time from '../../ui/Time.svelte';
  import ReadyNote from '../ReadyNote.svelte';
  import StandbyNote from '../StandbyNote.svelte';

  /** What is under way with a connection, or waits for a decision. */
  interface Props {
    connection: Connection;
    words: ConnectionWords;
    busy: boolean;
    done: () => unknown;
    retryRevocation: () => unknown;
  }
  const { connection: c, words, busy, done, retryRevocation }: Props = $props();
</script>

{#if c.open_consent}<p class="border-l-4 border-primary pl-3 py-1 mb-4" role="status">
    A consent is in progress, started by {c.open_consent.opened_by}; it expires <Time at={c.open_consent.expires_at} />.
    <a class="link link-primary" href={`#/consents/${c.open_consent.id}`}>Continue</a>
  </p>{/if}
{#if !words.consented && !words.revoked}<ReadyNote ready={c.ready} />{/if}
<StandbyNote connection={c} {done} />
<AdminConsentNote connection={c} />
{#if c.revocation}<p class="border-l-4 border-warning pl-3 py-1 mb-4" role="status">
    Not revoked at the provider yet. {c.revocation.says}{#if c.revocation.next_at}
      Next try <Time at={c.revocation.next_at} />.{/if}
    <button class="btn btn-xs" disabled={busy} onclick={retryRevocation}>Retry now</button>
  </p>{/if}
