<script lang="ts">
  import type { Problem } from '../../../api/problem.ts';
  import type { ClientEntry } from '../../state/client-entry.svelte.ts';
  import Field from '../../ui/Field.svelte';

  /** A certificate: made here, or out of a PKCS#12 file. Pasted PEM has a field of its own. */
  const { entry, problem }: { entry: ClientEntry; problem: Problem | null } = $props();
  const take = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    const bytes = new Uint8Array(await file.arrayBuffer());
    entry.secret = btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(''));
  };
</script>

<fieldset class="mb-2">
  <legend class="font-semibold mb-0.5">Certificate</legend>
  <div class="flex flex-wrap gap-x-6">
    <label class="flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" name="form" value="make" bind:group={entry.form} />Make one here</label
    >
    <label class="flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" name="form" value="pem" bind:group={entry.form} />Paste PEM</label
    >
    <label class="flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" name="form" value="pkcs12" bind:group={entry.form} />A PKCS#12 file</label
    >
  </div>
</fieldset>
{#if entry.form === 'make'}
  <div class="grid md:grid-cols-2 gap-x-4">
    <Field id="common-name" label="Common name" help="What the provider’s page will show; any name will do."
      ><input id="common-name" class="input w-full" maxlength="64" bind:value={entry.commonName} /></Field
    >
    <Field id="key-kind" label="Key"
      ><select id="key-kind" class="select w-full" bind:value={entry.keyKind}
        ><option>RSA-2048</option><option>RSA-3072</option><option>RSA-4096</option><option>P-256</option><option>P-384</option></select
      ></Field
    >
    <Field id="label" label="Label"><input id="label" class="input w-full" maxlength="80" bind:value={entry.label} /></Field>
    <Field id="ends" {problem} path="ends_at" label="Expires on" help="Left empty: in a year."
      ><input id="ends" type="date" class="input w-full" bind:value={entry.ends} /></Field
    >
  </div>
{:else if entry.form === 'pkcs12'}
  <div class="grid md:grid-cols-2 gap-x-4">
    <Field id="p12" label="The file" help=".p12 or .pfx; or paste it as base64 below"
      ><input id="p12" type="file" class="file-input w-full" accept=".p12,.pfx" onchange={take} /></Field
    >
    <Field id="p12-password" label="Its password"
      ><input id="p12-password" type="password" class="input w-full" autocomplete="off" bind:value={entry.password} /></Field
    >
  </div>
  <Field id="p12-base64" label="The file as base64">
    <textarea id="p12-base64" class="textarea w-full mono h-16" spellcheck="false" autocomplete="off" bind:value={entry.secret}></textarea>
  </Field>
{/if}
