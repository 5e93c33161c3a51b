<script lang="ts">
  import type { Caller } from '../../../api/callers.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** How a caller authenticates without a secret that is stored here. */
  const { caller: c, done }: { caller: Caller; done: () => unknown } = $props();
  let adding = $state(false);
  let kind = $state<'key' | 'workload' | 'certificate'>('key');
  let [text, issuer, claims] = $state(['', '', '']);
  const doing = new Action();
  const pairs = () =>
    Object.fromEntries(
      [...claims.matchAll(/^\s*([^:=\s]+)\s*[:=]\s*(.+)$/gm)].map(([, name = '', value = '']): [string, string] => [name, value.trim()]),
    );
  const keyBody = () => {
    if (/^https?:/.test(text.trim())) return { kind: 'key' as const, jwks_url: text.trim() };
    const read = JSON.parse(text) as { keys?: Record<string, unknown>[] } & Record<string, unknown>;
    return { kind: 'key' as const, jwks: { keys: read.keys ?? [read] } };
  };
  const bodyOf = () =>
    kind === 'workload'
      ? { kind, issuer: issuer.trim(), claims: pairs() }
      : kind === 'key'
        ? keyBody()
        : text.includes('BEGIN')
          ? { kind, certificate: text }
          : { kind, subject: text.trim() };
  const add = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('addIdentity', { params: { caller: c.name }, body: bodyOf() });
      [adding, text, issuer, claims] = [false, '', '', ''];
      await done();
    });
  };
  const remove = (identity: string) =>
    doing.run(async () => {
      await call('removeIdentity', { params: { caller: c.name, identity } });
      await done();
    });
</script>

<section class="mt-6 max-w-5xl" aria-labelledby="identities">
  <h2 id="identities">Without a stored secret</h2>
  {#if c.identities.length > 0}
    <table class="list-table mb-2">
      <thead><tr><th>Authenticates with</th><th>Added</th><th>Last used</th><th><span class="sr-only">Actions</span></th></tr></thead>
      <tbody>
        {#each c.identities as one (one.id)}
          <tr>
            <td data-label="Authenticates with" class="break-all">{one.says}</td>
            <td data-label="Added"><Time at={one.created_at} /> by {one.created_by}</td>
            <td data-label="Last used"><Time at={one.last_used_at} none="never" /></td>
            <td class="text-right"><button class="btn btn-xs" disabled={doing.busy} onclick={() => remove(one.id)}>Remove</button></td>
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p class="mb-2 text-base-content/70">None. Register a public key, a trusted issuer of workload tokens, or a certificate.</p>{/if}
  {#if adding}
    <form class="panel px-4 py-3 max-w-xl" onsubmit={add}>
      <Field id="identity-kind" label="Kind"
        ><select id="identity-kind" class="select w-full" bind:value={kind}
          ><option value="key">Public key (private_key_jwt)</option><option value="workload">Workload token of a trusted issuer</option
          ><option value="certificate">Certificate</option></select
        ></Field
      >
      {#if kind === 'workload'}
        <Field id="identity-issuer" label="Issuer" help="The iss of its tokens; its keys are found by its metadata"
          ><input id="identity-issuer" type="url" class="input w-full" required bind:value={issuer} /></Field
        >
        <Field id="identity-claims" label="Claims" help="One in each line, such as sub: repo:saltmarsh/nightly:*"
          ><textarea id="identity-claims" class="textarea w-full mono" rows="2" required bind:value={claims}></textarea></Field
        >
      {:else}
        <Field
          id="identity-text"
          label={kind === 'key' ? 'Public key' : 'Certificate'}
          help={kind === 'key' ? 'A JWK, a set of them, or the address of one' : 'In PEM, or the subject of one of your own authority'}
          ><textarea id="identity-text" class="textarea w-full mono" rows="4" required bind:value={text}></textarea></Field
        >
      {/if}
      <button class="btn btn-primary btn-sm" disabled={doing.busy}>Add</button>
      <button type="button" class="btn btn-sm" onclick={() => (adding = false)}>Cancel</button>
    </form>
  {:else}<button class="btn btn-sm" onclick={() => (adding = true)}>Add identity</button>{/if}
  <ProblemNote problem={doing.problem} />
</section>
