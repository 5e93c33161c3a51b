<script lang="ts">
  import type { Problem } from '../../api/problem.ts';
  import { Action } from '../state/query.svelte.ts';
  import { usePasskey } from '../state/passkeys.ts';
  import { session } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** The second step of a sign-in. */
  const { asked, back }: { asked: NonNullable<Problem['second_factor']>; back: () => void } = $props();
  let code = $state('');
  const doing = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(() => session.finishSignIn({ ticket: asked.ticket, code }));
  };
  const passkey = () =>
    doing.run(async () => session.finishSignIn({ ticket: asked.ticket, passkey: await usePasskey(asked.passkey_options ?? {}) }));
</script>

<form onsubmit={submit}>
  {#if asked.methods.includes('passkey')}
    <button type="button" class="btn btn-primary w-full mb-3" disabled={doing.busy} onclick={passkey}>Use passkey</button>
  {/if}
  <Field id="code" label="Code" help="Of your authenticator app, or a recovery code">
    <!-- svelte-ignore a11y_autofocus -->
    <input id="code" class="input w-full mono" autocomplete="one-time-code" required maxlength="40" autofocus bind:value={code} />
  </Field>
  <ProblemNote problem={doing.problem} />
  <button class="btn btn-primary w-full" disabled={doing.busy}>Verify code</button>
  <button type="button" class="link text-sm mt-2" onclick={back}>Sign in as someone else</button>
</form>
