<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import type { ConnectionWords } from '../../state/connection-words.ts';
  import Answer from '../Answer.svelte';
  import CallComposer from '../CallComposer.svelte';
  import CapabilityTable from '../CapabilityTable.svelte';

  /** Verifies capabilities one by one, and calls the API through the connection. */
  const { connection: c, words, done }: { connection: Connection; words: ConnectionWords; done: () => unknown } = $props();
</script>

{#if words.consented}
  <section class="mb-6" aria-labelledby="capabilities">
    <h2 id="capabilities" class="mb-1">Capabilities</h2>
    <CapabilityTable connection={c} {done} />
  </section>
  {#if c.probe.last}<details class="mb-6">
      <summary class="cursor-pointer font-semibold">Last test call</summary><Answer answer={c.probe.last} />
    </details>{/if}
{/if}
{#if words.consented && !words.paused && !words.revoked}<section aria-labelledby="compose">
    <h2 id="compose" class="mb-1">Call the API</h2>
    <CallComposer connection={c.name} />
  </section>
{:else}<p class="text-base-content/70">Calls are possible once the connection is working.</p>{/if}
