<script lang="ts">
  import type { ConsentOutcome } from '../../api/connections.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import DiagnosisNote from './DiagnosisNote.svelte';
  import ProblemNote from './ProblemNote.svelte';
  import RedirectCheck from './RedirectCheck.svelte';

  /** When a provider stops on its own page, nothing comes back to us: its words or its address are the evidence. */
  const { outcome: o, done }: { outcome: ConsentOutcome; done: () => unknown } = $props();
  let page = $state('');
  const reading = new Action();
  const explain = (event: SubmitEvent) => {
    event.preventDefault();
    void reading.run(async () => {
      await call('explainPage', { params: { consent: o.id }, body: { page } });
      await done();
    });
  };
</script>

<section class="panel px-4 py-3 max-w-3xl" aria-labelledby="stuck">
  <h2 id="stuck">Did {o.provider_title} stop on a page of its own?</h2>
  <form onsubmit={explain} class="flex flex-wrap items-end gap-2 my-1">
    <label class="grow"
      >Paste what that page shows, or its address<textarea class="textarea w-full" rows="2" maxlength="8000" required bind:value={page}
      ></textarea></label
    ><button class="btn btn-sm" disabled={reading.busy || !page.trim()}>What does it mean?</button>
  </form>
  <ProblemNote problem={reading.problem} />
  {#if o.page_diagnosis}<DiagnosisNote diagnosis={o.page_diagnosis} />{/if}
  <p>Most common causes: a wrong client ID, or a redirect URI at the provider that differs from ours, even by one slash.</p>
  <p class="my-2">Ours: <Copy value={o.redirect_uri} label="our redirect URI" /></p>
  <RedirectCheck provider={o.provider} client={o.client} label="Paste the one that is registered at the provider" />
  <p class="mt-2 text-sm">
    If they differ, fix and save the redirect URI at {o.provider_title}, then open the connection again. If they match, compare the client
    ID on
    <a class="link" href={`#/providers/${o.provider}/clients/${o.client}`}>the client’s page</a>.
  </p>
</section>
