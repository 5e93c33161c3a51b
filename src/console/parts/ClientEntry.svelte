<script lang="ts">
  import Form from '../ui/Form.svelte';
  import type { Client } from '../../api/clients.ts';
  import { ClientEntry, withTheirWord } from '../state/client-entry.svelte.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import CertificateFields from './client/CertificateFields.svelte';
  import PastedNotes from './client/PastedNotes.svelte';
  import SecretFacts from './client/SecretFacts.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Enters what the provider gave: field by field, or a page of notes at once. Editing one field never requests a secret again. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  const key = $derived({ provider: c.provider, client: c.name });
  const entry = new ClientEntry();
  let saved = $state('');
  const saving = new Action();
  const byKey = $derived(c.method === 'private_key_jwt');
  $effect(() => {
    entry.kind = byKey ? 'certificate' : 'secret';
  });
  const METHODS = {
    client_secret_basic: 'a secret, as HTTP Basic',
    client_secret_post: 'a secret, in the body',
    private_key_jwt: 'a certificate or key',
    none: 'nothing: a public client',
  };
  const useMethod = (method: Client['method']) =>
    saving.run(async () => {
      await call('changeClient', { params: key, body: { revision: c.revision, method } });
      await done();
    });
  const secretName = $derived(c.secret ? 'A new secret' : withTheirWord(c.words, 'client_secret', 'Client secret'));
  const secretLabel = $derived(byKey ? 'Certificate and private key, as PEM' : secretName);
  const idLabel = $derived(c.client_id ? 'Another client id' : withTheirWord(c.words, 'client_id', 'Client id'));
  const isUnlikely = $derived(saving.problem?.places?.some((place) => place.kind === 'unlikely') ?? false);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      saved = '';
      const said: string[] = [];
      const { clientId, asIs } = entry;
      if (clientId.trim() && clientId.trim() !== c.client_id) {
        await call('changeClient', { params: key, body: { revision: c.revision, client_id: clientId, take_as_is: asIs } });
        said.push(clientId === clientId.trim() ? 'The id is saved.' : 'The id is saved, without the spaces around it.');
      }
      if (entry.makes(byKey)) {
        await call('makeCertificate', { params: key, body: entry.certificateBody() });
        said.push('The key is made and sealed; upload the public part of its certificate at the provider.');
      } else if (entry.secret) {
        await call('addSecret', { params: key, body: entry.secretBody(byKey) });
        said.push('The secret is sealed; it will not be shown again.');
      }
      entry.clear();
      saved = said.join(' ');
      await done();
    });
  };
</script>

<Form {saving} onsubmit={submit} class="max-w-xl" autocomplete="off">
  {#if c.methods.length > 1}<Field id="by" label="It authenticates by"
      ><select
        id="by"
        class="select w-full"
        value={c.method}
        disabled={saving.busy}
        onchange={(event) => useMethod(event.currentTarget.value as Client['method'])}
        >{#each c.methods as one (one)}<option value={one}>{METHODS[one]}</option>{/each}</select
      ></Field
    >{/if}
  <Field id="client-id" problem={saving.problem} path="client_id" label={idLabel}
    ><input id="client-id" class="input w-full mono" autocomplete="off" bind:value={entry.clientId} /></Field
  >
  {#if c.method !== 'none'}
    {#if byKey}<CertificateFields {entry} problem={saving.problem} />{/if}
    {#if !byKey || entry.form === 'pem'}
      <Field
        id="client-secret"
        problem={saving.problem}
        path="secret"
        label={secretLabel}
        help={c.secret
          ? 'It is verified before it replaces the current one. Leave empty to keep what is there.'
          : 'It goes in and never comes out.'}
      >
        {#if byKey}<textarea
            id="client-secret"
            class="textarea w-full mono h-24"
            spellcheck="false"
            autocomplete="off"
            bind:value={entry.secret}></textarea>{:else}<input
            id="client-secret"
            type="password"
            class="input w-full mono"
            autocomplete="new-password"
            bind:value={entry.secret}
          />{/if}
      </Field>
    {/if}
    {#if entry.secret && !(byKey && entry.form === 'make')}
      <SecretFacts {entry} {byKey} replaces={c.secret !== null} problem={saving.problem} />
    {/if}
  {/if}
  <ProblemNote problem={saving.problem} />
  {#if isUnlikely}<label class="flex items-center gap-2 mb-2"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={entry.asIs} />It is right: take it as it is</label
    >{/if}
  <button class="btn btn-primary btn-sm" disabled={saving.busy || !entry.isFilled(byKey)}>Save</button>
  <span role="status" class="text-success font-semibold">{saved}</span>
</Form>
<PastedNotes client={c} {done} />
