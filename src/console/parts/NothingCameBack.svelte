<script lang="ts">
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Copy from './Copy.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** When a provider stops on its own page, nothing comes back to us: compare what is registered there with what we sent. */
  const { provider, client, providerTitle, redirectUri }: { provider: string; client: string; providerTitle: string; redirectUri: string } = $props();
  let registered = $state('');
  let verdict = $state.raw<{ same: boolean; says: string; at: number | null } | null>(null);
  const checking = new Doing();
  const check = (event: SubmitEvent) => {
    event.preventDefault();
    void checking.run(async () => {
      verdict = await call('checkRedirectUri', { params: { provider, client }, body: { registered } });
    });
  };
</script>

<section class="panel px-4 py-3 max-w-3xl" aria-labelledby="stuck">
  <h2 id="stuck">Did {providerTitle} stop on a page of its own?</h2>
  <p>Then nothing comes back here. Two reasons are by far the most common: the client id is another one, or the redirect URI registered there differs from ours, be it by one slash.</p>
  <p class="my-2">Ours: <Copy value={redirectUri} label="our redirect URI" /></p>
  <form onsubmit={check} class="flex flex-wrap items-end gap-2">
    <label class="grow">Paste the one that is registered there<input class="input input-sm w-full mono" required bind:value={registered} oninput={() => (verdict = null)} /></label>
    <button class="btn btn-sm" disabled={checking.busy}>Compare</button>
  </form>
  <ProblemNote problem={checking.problem} />
  {#if verdict}
    <div class="mt-2" role="status">
      <p class={['font-semibold', verdict.same ? 'text-success' : 'text-error']}>{verdict.says}</p>
      {#if verdict.at !== null}<p class="mono break-all">{registered.slice(0, verdict.at)}<mark class="bg-error text-error-content px-0.5">{registered.slice(verdict.at, verdict.at + 1) || '⌫'}</mark>{registered.slice(verdict.at + 1)}</p>{/if}
      {#if verdict.same}<p>Then compare the client id on <a class="link" href={`#/providers/${provider}/clients/${client}`}>the page of the client</a>.</p>{:else}<p>Mend it at {providerTitle}, save there, and open the connection again.</p>{/if}
    </div>
  {/if}
</section>
