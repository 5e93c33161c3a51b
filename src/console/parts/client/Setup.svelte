<script lang="ts">
  import ExternalLink from '@lucide/svelte/icons/external-link';
  import type { Client } from '../../../api/clients.ts';
  import Copy from '../../ui/Copy.svelte';
  import Credentials from './Credentials.svelte';
  import FormAnswers from '../FormAnswers.svelte';
  import Guide from '../Guide.svelte';
  import ReadyNote from '../ReadyNote.svelte';
  import RedirectCheck from '../RedirectCheck.svelte';

  /** Registering a client at its provider: what to paste there, the guide step by step, and approval. */
  const { client: c, done }: { client: Client; done: () => Promise<unknown> } = $props();
  const hasRedirect = $derived(c.type !== 'service_account' && c.type !== 'printed_code');
  const redirectName = $derived(c.words.redirect_uri ?? 'Redirect URI');
  const withoutRedirect = $derived(
    c.type === 'printed_code' ? 'People consent by a code that the provider’s console prints.' : 'Nobody signs in through it.',
  );
  /** Stays once it was there: what was said of saving is read on the same page. */
  let wasMissing = $state(false);
  $effect(() => {
    if (c.missing.length > 0) wasMissing = true;
  });
  const needsApproval = $derived(c.form.length > 0 || !['not_needed', 'approved'].includes(c.approval) || c.requests.length > 0);
</script>

<ReadyNote ready={c.ready} />
<section class="mb-6 max-w-5xl" aria-labelledby="register">
  <h2 id="register">Register it at {c.provider_title}</h2>
  <p class="mt-1">
    {hasRedirect ? `${redirectName}, to paste exactly as it is:` : `${withoutRedirect} If the form asks for a redirect URI anyway:`}
  </p>
  <p class="my-1"><Copy value={c.redirect_uri} label="the redirect URI" /></p>
  {#each c.redirect_rules as says (says)}<p class="border-l-4 border-warning pl-3 my-1">{says}</p>{/each}
  {#if c.registration_page}<p>
      <a class="btn btn-sm" href={c.registration_page} target="_blank" rel="noopener"
        >Open the registration page<ExternalLink size={14} aria-hidden="true" /></a
      >
    </p>{/if}
</section>
{#if c.guide.length > 0}<section class="mb-6 max-w-5xl" aria-labelledby="guide">
    <h2 id="guide" class="mb-1">Step by step</h2>
    <Guide client={c} {done} />
  </section>{/if}
{#if wasMissing}<section class="mb-6 max-w-5xl" aria-labelledby="enter">
    <h2 id="enter" class="mb-1">Enter what it gave you</h2>
    <Credentials client={c} {done} />
  </section>{/if}
{#if hasRedirect}<section class="mb-6 max-w-5xl" aria-labelledby="redirect">
    <h2 id="redirect" class="mb-1">Compare the redirect URI</h2>
    <RedirectCheck
      provider={c.provider}
      client={c.name}
      label={`${redirectName} as their page shows it after saving, pasted back`}
      {done}
    />
  </section>{/if}
{#if needsApproval}<section class="max-w-5xl mb-6" aria-labelledby="forms">
    <h2 id="forms" class="mb-1">Access request and approval</h2>
    <FormAnswers client={c} {done} />
  </section>{/if}
