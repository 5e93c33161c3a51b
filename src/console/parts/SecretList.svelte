<script lang="ts">
  import type { AnswerOf } from '../../api/operations.ts';
  import type { Client, ShownCertificate } from '../../api/clients.ts';
  import Copy from '../ui/Copy.svelte';
  import Field from '../ui/Field.svelte';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';
  import SecretEdit from './SecretEdit.svelte';
  import StateMark from './StateMark.svelte';

  /** A client's secrets over time: kinds, dates and states, never values. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  const doing = new Action();
  let retiring = $state<string | null>(null);
  let editing = $state<string | null>(null);
  const toggle = (id: string) => {
    editing = editing === id ? null : id;
  };
  const edited = async () => {
    editing = null;
    await done();
  };
  let shown = $state.raw<{ id: string; certificate: ShownCertificate } | null>(null);
  let pasted = $state('');
  let verdict = $state.raw<{ same: boolean; says: string } | null>(null);
  const keyOf = (secret: string) => ({ provider: c.provider, client: c.name, secret });
  const show = (id: string) =>
    doing.run(async () => {
      shown = { id, certificate: await call('showCertificate', { params: keyOf(id) }) };
      verdict = null;
      pasted = '';
    });
  const compare = (id: string) =>
    doing.run(async () => {
      verdict = await call('compareThumbprint', { params: keyOf(id), body: { pasted } });
    });
  type Thumbprints = NonNullable<AnswerOf<'showCertificate'>['thumbprints']>;
  const digestsOf = ({ sha1, sha256 }: Thumbprints) =>
    [
      ['SHA-1', sha1],
      ['SHA-256', sha256],
    ] as const;
  const file = (text: string, base64 = false) =>
    `data:application/octet-stream${base64 ? ';base64,' : ','}${base64 ? text : encodeURIComponent(`${text}\n`)}`;
  const act = (name: 'verifySecret' | 'retireSecret', secret: string) =>
    doing.run(async () => {
      await call(name, { params: { provider: c.provider, client: c.name, secret } });
      retiring = null;
      await done();
    });
</script>

<ProblemNote problem={doing.problem} />
{#if c.secrets.length > 0}
  <table class="list-table">
    <caption class="sr-only">Secrets</caption>
    <thead><tr><th>Secret</th><th>State</th><th>Entered</th><th>Expires</th><th>Verified</th><th></th></tr></thead>
    <tbody>
      {#each c.secrets as one (one.id)}
        <tr>
          <td data-label="Secret"
            ><span class="font-semibold">{one.label || one.kind}</span>{#if one.label}
              <span class="text-base-content/70">{one.kind}</span>{/if}{#if one.key}<div class="text-sm text-base-content/70 break-all">
                {one.key.type}{one.key.subject ? `, ${one.key.subject}` : ''}<br />{#if one.key.x5t_s256}SHA-256 <code
                    >{one.key.x5t_s256}</code
                  >{:else if one.key.kid}key id <code>{one.key.kid}</code>{:else}no key ID sent{/if}{#if one.key.algorithm}, {one.key
                    .algorithm}{/if}
              </div>{/if}</td
          >
          <td data-label="State"
            ><StateMark state={one.state} />{#if one.evidence ?? (one.says !== 'In use.' && one.says)}<div
                class="text-sm text-base-content/70"
              >
                {one.evidence ?? one.says}
              </div>{/if}</td
          >
          <td data-label="Entered"><Time at={one.entered_at} /></td><td data-label="Expires"><Time at={one.ends_at} none="not known" /></td
          ><td data-label="Verified"><Time at={one.verified_at} none="not yet" /></td>
          <td class="text-right whitespace-nowrap">
            {#if one.key && one.state !== 'retired'}<button
                class="btn btn-xs"
                disabled={doing.busy}
                onclick={() => (shown?.id === one.id ? (shown = null) : show(one.id))}>Public part</button
              >{/if}
            {#if one.state !== 'retired'}
              <button class="btn btn-xs" aria-expanded={editing === one.id} onclick={() => toggle(one.id)}>Edit</button>
            {/if}
            {#if one.state === 'unverified' || one.state === 'rejected'}<button
                class="btn btn-xs"
                disabled={doing.busy}
                onclick={() => act('verifySecret', one.id)}>Verify</button
              >{/if}
            {#if retiring === one.id}<button class="btn btn-xs btn-error" disabled={doing.busy} onclick={() => act('retireSecret', one.id)}
                >Discard value</button
              > <button class="btn btn-xs" onclick={() => (retiring = null)}>Keep</button>
            {:else if one.state !== 'retired'}<button class="btn btn-xs btn-ghost" onclick={() => (retiring = one.id)}>Retire…</button>{/if}
          </td>
        </tr>
        {#if editing === one.id}<tr><td colspan="6"><SecretEdit client={c} secret={one} done={edited} /></td></tr>{/if}
        {#if shown?.id === one.id}
          {@const cert = shown.certificate}
          <tr
            ><td colspan="6">
              <p class="flex flex-wrap gap-2 mb-2">
                <a class="btn btn-xs btn-primary" download={`${c.name}.pem`} href={file(cert.pem)}>Download PEM</a>{#if cert.der}<a
                    class="btn btn-xs"
                    download={`${c.name}.cer`}
                    href={file(cert.der, true)}>Download DER</a
                  >{/if}
              </p>
              <dl class="facts">
                {#if cert.thumbprints}{#each digestsOf(cert.thumbprints) as [name, digest] (name)}<dt>
                      {name}
                    </dt>
                    <dd class="break-all">
                      <div class="mono">{digest.hex}</div>
                      <div class="mono">{digest.base64}</div>
                      <div class="mono">{digest.base64url}</div>
                    </dd>{/each}{/if}
                <dt>Public keys at</dt>
                <dd><Copy value={cert.keys_url} label="the address of the public keys" /></dd>
              </dl>
              {#if cert.thumbprints}<form
                  class="max-w-2xl mt-2"
                  onsubmit={(event) => {
                    event.preventDefault();
                    void compare(one.id);
                  }}
                >
                  <Field
                    id={`thumb-${one.id}`}
                    label="The thumbprint that the provider shows"
                    help="In any form: hex with colons or spaces, base64."
                    ><input id={`thumb-${one.id}`} class="input w-full mono" bind:value={pasted} oninput={() => (verdict = null)} /></Field
                  ><button class="btn btn-xs" disabled={doing.busy || !pasted.trim()}>Compare</button>
                  {#if verdict}<span role="status" class={['font-semibold', verdict.same ? 'text-success' : 'text-error']}
                      >{verdict.says}</span
                    >{/if}
                </form>{/if}
            </td></tr
          >
        {/if}
      {/each}
    </tbody>
  </table>
{/if}
