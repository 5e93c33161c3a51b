<script lang="ts">
  import { CLIENT_ASSERTION_ALGORITHMS } from '../../../core/oauth/methods.ts';
  import type { Problem } from '../../../api/problem.ts';
  import type { ClientEntry } from '../../state/client-entry.svelte.ts';
  import Field from '../../ui/Field.svelte';

  /** What is known of a secret that is being entered: its kind, when it ends, how it is used. */
  interface Props {
    entry: ClientEntry;
    byKey: boolean;
    /** Another one is in use. */
    replaces: boolean;
    problem: Problem | null;
  }
  const { entry, byKey, replaces, problem }: Props = $props();
</script>

<div class="grid md:grid-cols-3 gap-x-4">
  <Field id="kind" label="Kind"
    ><select id="kind" class="select w-full" bind:value={entry.kind}
      >{#if byKey}<option value="certificate">certificate</option><option value="key">key</option>{:else}<option value="secret"
          >secret</option
        ><option value="password">service user’s password</option>{/if}</select
    ></Field
  >
  <Field id="label" label="Label"><input id="label" class="input w-full" maxlength="80" bind:value={entry.label} /></Field>
  <Field id="ends" {problem} path="ends_at" label="Expires on" help="As the provider’s page shows; no response contains it."
    ><input id="ends" type="date" class="input w-full" bind:value={entry.ends} /></Field
  >
</div>
{#if byKey}<div class="grid md:grid-cols-2 gap-x-4">
    <Field id="key-id" label="Key ID" help="The kid registered at the provider. Empty: its thumbprint (RFC 7638).">
      <input id="key-id" class="input w-full mono" maxlength="200" bind:value={entry.keyId} />
    </Field>
    <Field id="algorithm" label="Algorithm">
      <select id="algorithm" class="select w-full" bind:value={entry.algorithm}>
        <option value="">automatic</option>
        {#each CLIENT_ASSERTION_ALGORITHMS as one (one)}<option>{one}</option>{/each}
      </select>
    </Field>
  </div>{/if}
{#if replaces}<label class="flex items-center gap-2 mb-2"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={entry.atOnce} />Use it unverified; retire the others</label
  >{/if}
