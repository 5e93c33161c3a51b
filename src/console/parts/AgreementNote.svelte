<script lang="ts">
  import type { Connection } from '../../api/connections.ts';
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Copy from './Copy.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** The organisation must agree: a link and a text for whoever may, and a look for the yes. */
  const { connection: c }: { connection: Connection } = $props();
  let said = $state('');
  let copied = $state(false);
  const copyText = async () => {
    await navigator.clipboard.writeText(c.organisation_agreement?.text ?? '');
    copied = true;
    setTimeout(() => (copied = false), 2_000);
  };
  const checking = new Doing();
  const check = () =>
    checking.run(async () => {
      said = (await call('checkAgreement', { params: { connection: c.name } })).says;
    });
</script>

{#if c.organisation_agreement}
  {@const a = c.organisation_agreement}
  <details class="panel px-4 py-2 mb-5 max-w-4xl" open={c.diagnosis?.half === 'organisation' || c.consented_at === null}>
    <summary class="cursor-pointer font-semibold">The whole organisation must agree to {a.scopes.join(', ')}</summary>
    <p class="my-1">Send this to whoever may agree for the organisation:</p>
    <pre class="whitespace-pre-wrap panel px-3 py-2 text-[0.88rem]">{a.text}</pre>
    <p class="my-1"><button type="button" class="btn btn-sm" onclick={copyText}>{copied ? 'Copied' : 'Copy the text'}</button></p>
    <p class="my-1">The link alone: <Copy value={a.link} label="the link" /></p>
    {#if a.check}<p><button class="btn btn-sm" disabled={checking.busy} onclick={check}>Have they agreed?</button> <span role="status">{said}</span></p>{:else}<p class="text-base-content/70">Whether they have agreed, a person’s consent tells: open the connection.</p>{/if}
    <ProblemNote problem={checking.problem} />
  </details>
{/if}
