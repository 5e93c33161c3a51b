<script lang="ts">
  import type { Account } from '../../../api/operators.ts';
  import { FACTOR_WORDS } from '../../../api/vocabulary.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { makePasskey } from '../../state/passkeys.ts';
  import { call } from '../../state/session.svelte.ts';
  import Copy from '../../ui/Copy.svelte';
  import Field from '../../ui/Field.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** Authenticator apps and passkeys, and the codes for the day on which the phone is gone. */
  const { account, changed }: { account: Account; changed: () => unknown } = $props();
  let name = $state('');
  let code = $state('');
  let started = $state.raw<{ factor: string; qr: string; secret: string } | null>(null);
  let codes = $state.raw<readonly string[]>([]);
  const doing = new Action();
  const kept = async (recovery: readonly string[]) => {
    if (recovery.length > 0) codes = recovery;
    [name, code, started] = ['', '', null];
    await changed();
  };
  const startApp = () => doing.run(async () => void (started = await call('startAuthenticator', { body: { name: name || 'phone' } })));
  const finishApp = (event: SubmitEvent) => {
    event.preventDefault();
    const factor = started?.factor ?? '';
    void doing.run(async () => kept((await call('finishSecondFactor', { params: { factor }, body: { code } })).recovery_codes));
  };
  const addPasskey = () =>
    doing.run(async () => {
      const { factor, options } = await call('startPasskey', { body: { name: name || 'passkey' } });
      const passkey = await makePasskey(options);
      await kept((await call('finishSecondFactor', { params: { factor }, body: { passkey } })).recovery_codes);
    });
  const remove = (factor: string) =>
    doing.run(async () => {
      await call('removeSecondFactor', { params: { factor } });
      await changed();
    });
  const renew = () => doing.run(async () => kept((await call('renewRecoveryCodes')).recovery_codes));
</script>

<section class="mt-6 max-w-4xl" aria-labelledby="own-factors">
  <h2 id="own-factors">Second factors</h2>
  <ProblemNote problem={doing.problem} />
  {#if codes.length > 0}
    <div class="border-l-4 border-primary bg-base-200 px-4 py-3 mb-3" role="status">
      <p>Recovery codes: each works once in place of a second factor. Keep them apart from your phone; they are shown only now.</p>
      <pre class="my-1">{codes.join('\n')}</pre>
      <button type="button" class="btn btn-xs" onclick={() => navigator.clipboard.writeText(codes.join('\n'))}>Copy codes</button>
    </div>
  {/if}
  {#if account.second_factors.length === 0}
    <p class="mb-2">None. With one, a stolen password is not enough to sign in.</p>
  {:else}
    <table class="list-table mb-2">
      <thead><tr><th>Name</th><th>Kind</th><th>Added</th><th>Last used</th><th><span class="sr-only">Actions</span></th></tr></thead>
      <tbody>
        {#each account.second_factors as one (one.id)}
          <tr>
            <td data-label="Name" class="font-semibold">{one.name}</td>
            <td data-label="Kind">{FACTOR_WORDS[one.kind]}</td>
            <td data-label="Added"><Time at={one.created_at} /></td>
            <td data-label="Last used"
              >{#if one.last_used_at}<Time at={one.last_used_at} />{:else}never{/if}</td
            >
            <td class="text-right"><button class="btn btn-xs" disabled={doing.busy} onclick={() => remove(one.id)}>Remove</button></td>
          </tr>
        {/each}
      </tbody>
    </table>
    <p class="mb-2">
      {account.recovery_codes} recovery codes left.
      <button class="btn btn-xs" disabled={doing.busy} onclick={renew}>Make new codes</button>
    </p>
  {/if}
  {#if started}
    <form class="panel px-4 py-3 max-w-xl" onsubmit={finishApp}>
      <p class="mb-2">Scan this with the app, or type the key into it. Then enter the code that it shows.</p>
      <img class="bg-white p-2 w-48" alt="QR code for the authenticator app" src={`data:image/svg+xml,${encodeURIComponent(started.qr)}`} />
      <p class="mono break-all my-2">{started.secret}</p>
      <Field id="app-code" label="Code"
        ><input id="app-code" class="input mono" autocomplete="one-time-code" required bind:value={code} /></Field
      >
      <button class="btn btn-primary btn-sm" disabled={doing.busy}>Verify code</button>
      <button type="button" class="btn btn-sm" onclick={() => (started = null)}>Cancel</button>
    </form>
  {:else}
    <div class="flex flex-wrap gap-2 items-end">
      <Field id="factor-name" label="Name"
        ><input id="factor-name" class="input" maxlength="60" placeholder="phone" bind:value={name} /></Field
      >
      <button class="btn btn-sm mb-3" disabled={doing.busy} onclick={startApp}>Add authenticator app</button>
      <button class="btn btn-sm mb-3" disabled={doing.busy || !account.passkeys.possible} onclick={addPasskey}>Add passkey</button>
    </div>
    {#if account.passkeys.why}<p class="text-sm text-base-content/70">Passkeys: {account.passkeys.why}</p>{/if}
  {/if}
</section>
