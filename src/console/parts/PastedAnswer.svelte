<script lang="ts">
  import ExternalLink from '@lucide/svelte/icons/external-link';
  import type { ConsentOutcome } from '../../api/connections.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** The browser's redirect does not reach this service: the address at which it stopped is pasted here. */
  const { outcome: o, done }: { outcome: ConsentOutcome; done: () => unknown } = $props();
  let pasted = $state('');
  const giving = new Action();
  const give = (event: SubmitEvent) => {
    event.preventDefault();
    void giving.run(async () => {
      await call('answerConsent', { params: { consent: o.id }, body: { pasted } });
      pasted = '';
      await done();
    });
  };
</script>

<ol class="list-decimal ml-5 max-w-3xl">
  <li class="mb-2">
    Consent at {o.provider_title}.{#if o.authorization_url}
      <a class="btn btn-sm ml-1" href={o.authorization_url} target="_blank" rel="noopener noreferrer"
        >Open their page<ExternalLink size={14} aria-hidden="true" /></a
      >{/if}
  </li>
  <li>
    At its end the browser shows an address that begins with <code class="break-all">{o.redirect_uri}</code>; it may say that the page
    cannot be reached. Copy the whole address and paste it here.
    <form onsubmit={give} class="flex flex-wrap items-end gap-2 mt-1">
      <label class="grow"
        >The whole address<textarea class="textarea w-full mono" rows="2" autocomplete="off" spellcheck="false" required bind:value={pasted}
        ></textarea></label
      ><button class="btn btn-primary" disabled={giving.busy || !pasted.trim()}>Go on with it</button>
    </form>
  </li>
</ol>
<ProblemNote problem={giving.problem} />
