<script lang="ts">
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  const { started }: { started: () => unknown } = $props();
  let passphrase = $state('');
  let [results, move] = $state([true, false]);
  const doing = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('startBackup', { body: { passphrase, results, move } });
      [passphrase, move] = ['', false];
      await started();
    });
  };
</script>

<h3 class="font-semibold mt-6 mb-1">Back up now</h3>
<form class="max-w-xl" onsubmit={submit}>
  <Field
    id="backup-passphrase"
    label="Passphrase"
    help="At least 12 characters. Without it nobody can restore. For a public key, use rk backup add --recipient"
    ><input
      id="backup-passphrase"
      type="password"
      class="input w-full"
      minlength="12"
      required
      autocomplete="new-password"
      bind:value={passphrase}
    /></Field
  >
  <label class="flex gap-2 items-center"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={results} />With what jobs collected</label
  >
  <label class="flex gap-2 items-center mb-3"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={move} />To move: hold renewals here first</label
  >
  <ProblemNote problem={doing.problem} />
  <button class="btn btn-primary btn-sm" disabled={doing.busy}>Back up</button>
</form>
