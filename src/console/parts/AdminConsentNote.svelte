<script lang="ts">
  import type { Connection } from '../../api/connections.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** The organization must consent: a link and a text for whoever may, and a look for the consent. */
  const { connection: c }: { connection: Connection } = $props();
  let said = $state('');
  let copied = $state(false);
  const copyText = async () => {
    await navigator.clipboard.writeText(c.admin_consent?.text ?? '');
    copied = true;
    setTimeout(() => (copied = false), 2_000);
  };
  const checking = new Action();
  const check = () =>
    checking.run(async () => {
      said = (await call('checkAdminConsent', { params: { connection: c.name } })).says;
    });
</script>

{#if c.admin_consent}
  {@const a = c.admin_consent}
  <details class="panel px-4 py-2 mb-5 max-w-4xl" open={c.diagnosis?.half === 'organization' || c.consented_at === null}>
    <summary class="cursor-pointer font-semibold">The whole organization needs admin consent to {a.scopes.join(', ')}</summary>
    <p class="my-1">Send this to an administrator of the organization:</p>
    <pre class="whitespace-pre-wrap panel px-3 py-2 text-[0.88rem]">{a.text}</pre>
    <p class="my-1"><button type="button" class="btn btn-sm" onclick={copyText}>{copied ? 'Copied' : 'Copy the text'}</button></p>
    <p class="my-1">The link alone: <Copy value={a.link} label="the link" /></p>
    {#if a.check}<p>
        <button class="btn btn-sm" disabled={checking.busy} onclick={check}>Have they consented?</button> <span role="status">{said}</span>
      </p>{:else}<p class="text-base-content/70">Open the connection: a person’s consent shows whether they have consented.</p>{/if}
    <ProblemNote problem={checking.problem} />
  </details>
{/if}
