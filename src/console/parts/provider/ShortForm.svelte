<script lang="ts">
  import type { ProviderDraft } from '../../state/provider-draft.svelte.ts';
  import Field from '../../ui/Field.svelte';

  /** Four fields, and where the provider departs from the standards. */
  const { draft }: { draft: ProviderDraft } = $props();
</script>

<div class="grid md:grid-cols-2 gap-x-4">
  <Field id="authorization-url" label="Authorization URL" help="Leave empty if nobody signs in."
    ><input id="authorization-url" class="input w-full mono" bind:value={draft.authorizationUrl} /></Field
  >
  <Field id="token-url" label="Token URL"><input id="token-url" class="input w-full mono" required bind:value={draft.tokenUrl} /></Field>
</div>
<Field id="api-call" label="One test call for a connection" help="A GET that works once someone has consented."
  ><input id="api-call" class="input w-full mono" bind:value={draft.apiCall} /></Field
>
<Field id="scopes" label="Scopes" help="Pasted in any form: lines, commas, JSON, with remarks."
  ><textarea id="scopes" class="textarea w-full mono h-24" spellcheck="false" bind:value={draft.scopes}></textarea></Field
>
<details class="mb-3">
  <summary class="cursor-pointer">Where it departs from the standards</summary>
  <div class="grid md:grid-cols-2 gap-x-4 mt-2">
    <Field id="method" label="Clients authenticate by"
      ><select id="method" class="select w-full" bind:value={draft.method}
        ><option value="">not known: client_secret_basic</option><option>client_secret_basic</option><option>client_secret_post</option
        ><option>private_key_jwt</option><option>none</option></select
      ></Field
    >
    <Field id="delimiter" label="Scopes are joined by"
      ><select id="delimiter" class="select w-full" bind:value={draft.delimiter}
        ><option value=" ">a space</option><option value=",">a comma</option><option value=";">a semicolon</option><option value="+"
          >a plus sign</option
        ></select
      ></Field
    >
    <Field id="authorization-parameters" label="Further authorization parameters" help="name=value, a line each."
      ><textarea id="authorization-parameters" class="textarea w-full mono h-16" spellcheck="false" bind:value={draft.authorization}
      ></textarea></Field
    >
    <Field id="token-parameters" label="Further token parameters" help="name=value, a line each, such as an audience."
      ><textarea id="token-parameters" class="textarea w-full mono h-16" spellcheck="false" bind:value={draft.token}></textarea></Field
    >
  </div>
  <p class="text-sm text-base-content/70">
    Anything else, such as JSON requests or members at other places, is written into the definition below.
  </p>
</details>
