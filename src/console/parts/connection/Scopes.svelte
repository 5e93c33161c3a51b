<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import ScopeTable from '../ScopeTable.svelte';

  /** Four lists of scopes side by side, what is odd about them, and the claims of the access token. */
  const { connection: c }: { connection: Connection } = $props();
</script>

<section class="mb-6 max-w-5xl" aria-labelledby="scopes">
  <h2 id="scopes" class="mb-1">Scopes</h2>
  {#if c.scopes_missing.length > 0}<p class="text-warning font-semibold">Not granted: {c.scopes_missing.join(' ')}</p>{/if}
  {#if c.scopes_unused.length > 0}<p>Granted, but needed by no operation: {c.scopes_unused.join(' ')}</p>{/if}
  {#if c.scopes_by_themselves.length > 0}<p class="text-base-content/70">
      Requested automatically, to read who consented: {c.scopes_by_themselves.join(' ')}
    </p>{/if}
  <ScopeTable connection={c} />
</section>
{#if c.claims}<section class="mb-6 max-w-5xl" aria-labelledby="claims">
    <h2 id="claims" class="mb-1">Claims of the access token</h2>
    <p class="text-sm text-base-content/70">As first received. The token itself is never shown.</p>
    <dl class="facts">
      {#each Object.entries(c.claims) as [name, value] (name)}<dt><code>{name}</code></dt>
        <dd class="break-all">{value}</dd>{/each}
    </dl>
  </section>{/if}
