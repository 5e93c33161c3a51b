<script lang="ts">
  import { push } from 'svelte-spa-router';
  import Field from '../ui/Field.svelte';
  import PasswordField from '../ui/PasswordField.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  const { params }: { params: { ticket: string } } = $props();
  let name = $state('');
  let password = $state('');
  const making = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void making.run(async () => {
      await call('addFirstOperator', { body: { ticket: params.ticket, name: name.trim(), password } });
      await session.signIn(name.trim(), password);
      await push('/');
    });
  };
</script>

<Title title="The first operator" />
<p class="max-w-xl mb-4">This link works once. The operator you make here can do everything in this installation.</p>
<form class="max-w-sm" onsubmit={submit}>
  <Field id="name" label="Name" help="Lower-case letters, digits and . _ @ -"
    ><input id="name" class="input w-full" autocomplete="username" required bind:value={name} /></Field
  >
  <PasswordField fresh bind:value={password} />
  <ProblemNote problem={making.problem} />
  <button class="btn btn-primary" disabled={making.busy}>Make the operator and sign in</button>
</form>
