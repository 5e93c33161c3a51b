<script lang="ts">
  import Form from '../ui/Form.svelte';
  import type { Client } from '../../api/clients.ts';
  import { CLIENT_ASSERTION_ALGORITHMS, type ClientAssertionAlgorithm } from '../../core/oauth/methods.ts';
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import PastedNotes from './client/PastedNotes.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Enters what the provider gave: field by field, or a page of notes at once. Editing one field never requests a secret again. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  const key = $derived({ provider: c.provider, client: c.name });
  let clientId = $state('');
  let secret = $state('');
  let kind = $state<'secret' | 'password' | 'certificate' | 'key'>('secret');
  let label = $state('');
  let ends = $state('');
  let atOnce = $state(false);
  let asIs = $state(false);
  let saved = $state('');
  const saving = new Doing();
  const byKey = $derived(c.method === 'private_key_jwt');
  let form = $state<'pem' | 'pkcs12' | 'make'>('make');
  let password = $state('');
  let keyId = $state('');
  let algorithm = $state<ClientAssertionAlgorithm | ''>('');
  let commonName = $state('');
  let keyKind = $state<'RSA-2048' | 'RSA-3072' | 'RSA-4096' | 'P-256' | 'P-384'>('RSA-3072');
  const take = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    const bytes = new Uint8Array(await file.arrayBuffer());
    secret = btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(''));
  };
  $effect(() => {
    kind = byKey ? 'certificate' : 'secret';
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
  const word = (ours: string, name: string) =>
    c.words[ours] && c.words[ours].toLowerCase() !== name.toLowerCase() ? `${name} (there: ${c.words[ours]})` : name;
  const secretName = $derived(c.secret ? 'A new secret' : word('client_secret', 'Client secret'));
  const secretLabel = $derived(byKey ? 'Certificate and private key, as PEM' : secretName);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      saved = '';
      const said: string[] = [];
      if (clientId.trim() && clientId.trim() !== c.client_id) {
        await call('changeClient', { params: key, body: { revision: c.revision, client_id: clientId, take_as_is: asIs } });
        said.push(clientId === clientId.trim() ? 'The id is saved.' : 'The id is saved, without the spaces around it.');
      }
      if (byKey && form === 'make' && commonName.trim()) {
        await call('makeCertificate', {
          params: key,
          body: { common_name: commonName.trim(), key: keyKind, label, ends_at: ends ? new Date(ends).toISOString() : null },
        });
        said.push('The key is made and sealed; upload the public part of its certificate at the provider.');
      } else if (secret) {
        await call('addSecret', {
          params: key,
          body: {
            secret,
            kind,
            form: byKey && form === 'pkcs12' ? 'pkcs12' : 'pem',
            password,
            label,
            ends_at: ends ? new Date(ends).toISOString() : null,
            at_once: atOnce,
            take_as_is: asIs,
            ...(byKey && keyId.trim() ? { key_id: keyId.trim() } : {}),
            ...(byKey && algorithm ? { algorithm } : {}),
          },
        });
        said.push('The secret is sealed; it will not be shown again.');
      }
      [clientId, secret, label, ends, password, commonName, keyId, algorithm] = ['', '', '', '', '', '', '', ''];
      [atOnce, asIs, saved] = [false, false, said.join(' ')];
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
  <Field id="client-id" problem={saving.problem} path="client_id" label={c.client_id ? 'Another client id' : word('client_id', 'Client id')}
    ><input id="client-id" class="input w-full mono" autocomplete="off" bind:value={clientId} /></Field
  >
  {#if c.method !== 'none'}
    {#if byKey}
      <fieldset class="mb-2">
        <legend class="font-semibold mb-0.5">Certificate</legend>
        <div class="flex flex-wrap gap-x-6">
          <label class="flex items-center gap-2"
            ><input type="radio" class="radio radio-sm" name="form" value="make" bind:group={form} />Make one here</label
          >
          <label class="flex items-center gap-2"
            ><input type="radio" class="radio radio-sm" name="form" value="pem" bind:group={form} />Paste PEM</label
          >
          <label class="flex items-center gap-2"
            ><input type="radio" class="radio radio-sm" name="form" value="pkcs12" bind:group={form} />A PKCS#12 file</label
          >
        </div>
      </fieldset>
    {/if}
    {#if byKey && form === 'make'}
      <div class="grid md:grid-cols-2 gap-x-4">
        <Field id="common-name" label="Common name" help="What the provider’s page will show; any name will do."
          ><input id="common-name" class="input w-full" maxlength="64" bind:value={commonName} /></Field
        >
        <Field id="key-kind" label="Key"
          ><select id="key-kind" class="select w-full" bind:value={keyKind}
            ><option>RSA-2048</option><option>RSA-3072</option><option>RSA-4096</option><option>P-256</option><option>P-384</option></select
          ></Field
        >
        <Field id="label" label="Label"><input id="label" class="input w-full" maxlength="80" bind:value={label} /></Field>
        <Field id="ends" problem={saving.problem} path="ends_at" label="Ends on" help="Left empty: in a year."
          ><input id="ends" type="date" class="input w-full" bind:value={ends} /></Field
        >
      </div>
    {:else if byKey && form === 'pkcs12'}
      <div class="grid md:grid-cols-2 gap-x-4">
        <Field id="p12" label="The file" help=".p12 or .pfx; or paste it as base64 below"
          ><input id="p12" type="file" class="file-input w-full" accept=".p12,.pfx" onchange={take} /></Field
        >
        <Field id="p12-password" label="Its password"
          ><input id="p12-password" type="password" class="input w-full" autocomplete="off" bind:value={password} /></Field
        >
      </div>
      <Field id="p12-base64" label="The file as base64">
        <textarea id="p12-base64" class="textarea w-full mono h-16" spellcheck="false" autocomplete="off" bind:value={secret}></textarea>
      </Field>
    {:else}
      <Field
        id="client-secret"
        problem={saving.problem}
        path="secret"
        label={secretLabel}
        help={c.secret
          ? 'It is verified before it replaces the current one. Leave empty to keep what is there.'
          : 'It goes in and never comes out.'}
      >
        {#if byKey}<textarea id="client-secret" class="textarea w-full mono h-24" spellcheck="false" autocomplete="off" bind:value={secret}
          ></textarea>{:else}<input
            id="client-secret"
            type="password"
            class="input w-full mono"
            autocomplete="new-password"
            bind:value={secret}
          />{/if}
      </Field>
    {/if}
    {#if secret && !(byKey && form === 'make')}
      <div class="grid md:grid-cols-3 gap-x-4">
        <Field id="kind" label="Kind"
          ><select id="kind" class="select w-full" bind:value={kind}
            >{#if byKey}<option value="certificate">certificate</option><option value="key">key</option>{:else}<option value="secret"
                >secret</option
              ><option value="password">service user’s password</option>{/if}</select
          ></Field
        >
        <Field id="label" label="Label"><input id="label" class="input w-full" maxlength="80" bind:value={label} /></Field>
        <Field id="ends" problem={saving.problem} path="ends_at" label="Ends on" help="As the provider’s page shows; no answer tells it."
          ><input id="ends" type="date" class="input w-full" bind:value={ends} /></Field
        >
      </div>
      {#if byKey}<div class="grid md:grid-cols-2 gap-x-4">
          <Field id="key-id" label="Key ID" help="The kid registered at the provider. Empty: its thumbprint (RFC 7638).">
            <input id="key-id" class="input w-full mono" maxlength="200" bind:value={keyId} />
          </Field>
          <Field id="algorithm" label="Algorithm">
            <select id="algorithm" class="select w-full" bind:value={algorithm}>
              <option value="">automatic</option>
              {#each CLIENT_ASSERTION_ALGORITHMS as one (one)}<option>{one}</option>{/each}
            </select>
          </Field>
        </div>{/if}
      {#if c.secret}<label class="flex items-center gap-2 mb-2"
          ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={atOnce} />Use it unverified; retire the others</label
        >{/if}
    {/if}
  {/if}
  <ProblemNote problem={saving.problem} />
  {#if saving.problem?.places?.some((place) => place.kind === 'unlikely')}<label class="flex items-center gap-2 mb-2"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={asIs} />It is right: take it as it is</label
    >{/if}
  <button
    class="btn btn-primary btn-sm"
    disabled={saving.busy || (!clientId.trim() && !secret && !(byKey && form === 'make' && commonName.trim()))}>Save</button
  > <span role="status" class="text-success font-semibold">{saved}</span>
</Form>
<PastedNotes client={c} {done} />
