<script lang="ts">
  import { onMount } from 'svelte';
  import type { ConfirmationAsked } from '../../api/operators.ts';
  import { confirming } from '../state/confirming.svelte.ts';
  import { Action } from '../state/query.svelte.ts';
  import { usePasskey } from '../state/passkeys.ts';
  import { call } from '../state/session.svelte.ts';
  import Confirm from '../ui/Confirm.svelte';
  import Field from '../ui/Field.svelte';

  /** Before a sensitive action: password and second factor again. The action goes on afterwards. */
  let [password, code] = $state(['', '']);
  let asked = $state.raw<ConfirmationAsked | null>(null);
  const doing = new Action();
  onMount(() => void doing.run(async () => void (asked = await call('startConfirmation'))));
  const finish = (proof: () => Promise<{ code?: string; passkey?: Record<string, unknown> }>) =>
    doing.run(async () => {
      await call('confirmIdentity', { body: { ...(asked?.password ? { password } : {}), ...(await proof()) } });
      confirming.waiting?.(true);
    });
  const passkey = () => finish(async () => ({ passkey: await usePasskey(asked?.passkey_options ?? {}) }));
</script>

<Confirm
  bind:open={() => true, (open) => open || confirming.waiting?.(false)}
  title="Confirm who you are"
  action="Confirm"
  busy={doing.busy}
  problem={doing.problem}
  run={() => finish(async () => (code ? { code } : {}))}
>
  <p class="mb-2">This action is sensitive. The confirmation holds for ten minutes.</p>
  {#if asked?.password}
    <Field id="confirm-password" label="Your password"
      ><input id="confirm-password" type="password" class="input w-full" autocomplete="current-password" bind:value={password} /></Field
    >
  {/if}
  {#if asked?.methods.includes('code')}
    <Field id="confirm-code" label="Code" help="Of your authenticator app, or a recovery code"
      ><input id="confirm-code" class="input w-full mono" autocomplete="one-time-code" maxlength="40" bind:value={code} /></Field
    >
  {/if}
  {#if asked?.methods.includes('passkey')}<button type="button" class="btn btn-sm" disabled={doing.busy} onclick={passkey}
      >Use passkey</button
    >{/if}
</Confirm>
