<script lang="ts">
  import type { NewKey } from '../../api/callers.ts';
  import Copy from '../ui/Copy.svelte';

  /** A key that was just made, with what an integration needs. It is shown this once. */
  const { made, onclose }: { made: NewKey; onclose: () => void } = $props();
</script>

<section class="border-l-4 border-success bg-base-200 px-4 py-3 mb-4" aria-label="The new key" role="status">
  <p class="font-semibold mb-1">Give these to {made.caller}. The secret is shown this once.</p>
  <dl class="facts">
    <dt>Token URL</dt>
    <dd><Copy value={made.token_url} label="the token URL" /></dd>
    <dt>Grant type</dt>
    <dd><code>client_credentials</code></dd>
    <dt>Client id</dt>
    <dd><Copy value={made.caller_id} label="the client id" /></dd>
    <dt>Client secret</dt>
    <dd id="new-key"><Copy value={made.key} label="the client secret" /></dd>
    {#if made.resources.length > 0}<dt>Resource</dt>
      <dd>
        {#each made.resources as resource (resource)}<div>
            <Copy value={resource} label="the resource" />
          </div>{/each}{#if made.resources.length === 1}<span class="text-sm">may be left out: this caller has one connection only</span
          >{/if}
      </dd>{/if}
  </dl>
  <button class="btn btn-sm mt-2" onclick={onclose}>I have copied it</button>
</section>
