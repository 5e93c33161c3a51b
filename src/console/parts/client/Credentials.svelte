<script lang="ts">
  import type { Client } from '../../../api/clients.ts';
  import ClientEntry from '../ClientEntry.svelte';
  import SecretList from '../SecretList.svelte';

  /** The client's id and secrets or certificates, and entering them. */
  const { client: c, done }: { client: Client; done: () => Promise<unknown> } = $props();
  /** Open while something is missing; then as the person leaves it, so that what was said of saving stays. */
  let isEntering = $state<boolean | null>(null);
  const saved = () => {
    isEntering = true;
    return done();
  };
  const title = $derived.by(() => {
    if (c.missing.length > 0) return 'Enter it';
    if (c.method === 'private_key_jwt') return 'Enter a new certificate';
    return c.method === 'none' ? 'Enter another id' : 'Enter a new secret';
  });
</script>

<dl class="facts mb-4">
  <dt>{c.words.client_id ? `Client id (at the provider: ${c.words.client_id})` : 'Client id'}</dt>
  <dd class={c.client_id ? 'mono' : ''}>{c.client_id ?? 'not entered yet'}</dd>
  {#if c.secrets.length === 0 && c.method !== 'none'}<dt>Secret</dt>
    <dd>not entered yet</dd>{/if}
</dl>
<SecretList client={c} {done} />
<details class="mt-4 max-w-5xl" bind:open={() => isEntering ?? c.missing.length > 0, (to) => (isEntering = to)}>
  <summary class="cursor-pointer font-semibold">{title}</summary>
  <div class="mt-2"><ClientEntry client={c} done={saved} /></div>
</details>
