<script lang="ts">
  import type { ProviderDraft } from '../../state/provider-draft.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import ShortForm from './ShortForm.svelte';

  /** Where a description of the provider comes from: an address, a file, four fields. */
  const { draft, read }: { draft: ProviderDraft; read: () => Promise<unknown> } = $props();
  const take = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    draft.document = await file.text();
    await read();
  };
</script>

{#if draft.way === 'issuer'}
  <Field id="address" label="Issuer" help="The provider’s pages call it issuer; the bare host where people sign in will often do."
    ><input id="address" class="input w-full mono" required bind:value={draft.address} placeholder="id.provider.example" /></Field
  >
  <Field id="api-call" label="One test call for a connection" help="Metadata names none; it can also be added later."
    ><input id="api-call" class="input w-full mono" bind:value={draft.apiCall} placeholder="https://api.provider.example/v1/me" /></Field
  >
{:else if draft.way === 'openapi'}
  <Field id="address" label="Its address" help="OpenAPI 3.x, JSON or YAML."
    ><input id="address" class="input w-full mono" bind:value={draft.address} /></Field
  >
  <Field id="file" label="Or the file"
    ><input id="file" type="file" class="file-input w-full" accept=".yaml,.yml,.json" onchange={take} /></Field
  >
{:else if draft.way === 'short_form'}<ShortForm {draft} />
{:else}
  <Field id="file" label="Definition file" help="YAML or JSON. It is read and checked; nothing is saved yet."
    ><input id="file" type="file" class="file-input w-full" accept=".yaml,.yml,.json" onchange={take} /></Field
  >
  <Field id="text" label="Or paste it"
    ><textarea id="text" class="textarea w-full mono h-48 whitespace-pre" spellcheck="false" bind:value={draft.document}></textarea></Field
  >
{/if}
