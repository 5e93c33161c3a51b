<script lang="ts">
  import Copy from './Copy.svelte';
  import RedirectCheck from './RedirectCheck.svelte';

  /** When a provider stops on its own page, nothing comes back to us: compare what is registered there with what we sent. */
  const { provider, client, providerTitle, redirectUri }: { provider: string; client: string; providerTitle: string; redirectUri: string } = $props();
</script>

<section class="panel px-4 py-3 max-w-3xl" aria-labelledby="stuck">
  <h2 id="stuck">Did {providerTitle} stop on a page of its own?</h2>
  <p>Then nothing comes back here. Two reasons are by far the most common: the client id is another one, or the redirect URI registered there differs from ours, be it by one slash.</p>
  <p class="my-2">Ours: <Copy value={redirectUri} label="our redirect URI" /></p>
  <RedirectCheck {provider} {client} label="Paste the one that is registered there" />
  <p class="mt-2 text-sm">If they differ, mend it at {providerTitle}, save there, and open the connection again. If they are the same, compare the client id on <a class="link" href={`#/providers/${provider}/clients/${client}`}>the page of the client</a>.</p>
</section>
