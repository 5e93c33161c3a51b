<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { untrack } from 'svelte';
  import type { Client } from '../../api/clients.ts';
  import { CLIENT_ASSERTION_ALGORITHMS, type ClientAssertionAlgorithm } from '../../core/oauth/methods.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Expiration date and label of a secret; for a key also its ID and algorithm. The value does not change. */
  const { client: c, secret, done }: { client: Client; secret: Client['secrets'][number]; done: () => unknown } = $props();
  const before = untrack(() => ({
    label: secret.label,
    ends: secret.ends_at?.slice(0, 10) ?? '',
    keyId: secret.key?.kid ?? '',
    algorithm: secret.key?.algorithm ?? ('' as const),
  }));
  const id = untrack(() => secret.id);
  let label = $state(before.label);
  let ends = $state(before.ends);
  let keyId = $state(before.keyId);
  let algorithm = $state<ClientAssertionAlgorithm | ''>(before.algorithm);
  const saving = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    const body = {
      ...(label === before.label ? {} : { label }),
      ...(ends === before.ends ? {} : { ends_at: ends ? new Date(ends).toISOString() : null }),
      ...(keyId.trim() === before.keyId ? {} : { key_id: keyId.trim() || null }),
      ...(algorithm === before.algorithm || algorithm === '' ? {} : { algorithm }),
    };
    void saving.run(async () => {
      const params = { provider: c.provider, client: c.name, secret: id };
      if (Object.keys(body).length > 0) await call('changeSecret', { params, body });
      await done();
    });
  };
</script>

<Form {saving} onsubmit={submit} class="max-w-2xl">
  <div class="grid md:grid-cols-2 gap-x-4">
    <Field id={`label-${id}`} label="Label"><input id={`label-${id}`} class="input w-full" maxlength="80" bind:value={label} /></Field>
    <Field id={`ends-${id}`} label="Expiration date" help="As shown at the provider. Empty: unknown.">
      <input id={`ends-${id}`} type="date" class="input w-full" bind:value={ends} />
    </Field>
    {#if secret.key}
      <Field id={`key-id-${id}`} label="Key ID" help="The kid registered at the provider. Empty: none is sent.">
        <input id={`key-id-${id}`} class="input w-full mono" maxlength="200" bind:value={keyId} />
      </Field>
      <Field id={`algorithm-${id}`} label="Algorithm">
        <select id={`algorithm-${id}`} class="select w-full" bind:value={algorithm}>
          {#if before.algorithm === ''}<option value="">default of the definition</option>{/if}
          {#each CLIENT_ASSERTION_ALGORITHMS as one (one)}<option>{one}</option>{/each}
        </select>
      </Field>
    {/if}
  </div>
  <ProblemNote problem={saving.problem} />
  <button class="btn btn-xs btn-primary" disabled={saving.busy}>Save</button>
</Form>
