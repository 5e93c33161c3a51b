<script lang="ts">
  import Field from '../ui/Field.svelte';
  import PasswordField from '../ui/PasswordField.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { theme } from '../state/theme.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  let name = $state('');
  let password = $state('');
  const signing = new Action();
  const offers = new Query(() => call('signInOffers'));
  $effect(() => offers.start());
  const asked = $derived(signing.problem?.second_factor);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void signing.run(() => session.signIn(name.trim(), password));
  };
</script>

<svelte:head><title>Sign in – Rusty Kettle</title></svelte:head>
<div class="min-h-screen grid place-items-center bg-base-200 text-base-content px-4">
  <main class="panel w-full max-w-sm p-6">
    <p class="flex items-center gap-2 font-semibold"><img src="/icon.svg" alt="" class="size-6" />Rusty Kettle</p>
    <h1 class="mt-3 mb-3">Sign in</h1>
    {#if asked}{#await import('../parts/SecondStep.svelte') then { default: SecondStep }}<SecondStep
          {asked}
          back={() => (signing.problem = null)}
        />{/await}
    {:else}<form onsubmit={submit}>
        <Field id="name" label="Operator name"
          ><input id="name" class="input w-full" autocomplete="username" required bind:value={name} /></Field
        >
        <PasswordField bind:value={password} />
        <ProblemNote problem={signing.problem} />
        <button class="btn btn-primary w-full" disabled={signing.busy}>Sign in</button>
      </form>{/if}
    {#if offers.value?.identity_provider && !asked}<a class="btn w-full mt-3" href="/sign-in/start"
        >Sign in with {offers.value.identity_provider.title}</a
      >{/if}
    <p class="text-sm mt-4 text-base-content/70">
      No operator yet? On the machine where the service runs: <code>rk operator first --name NAME</code>
    </p>
    <button type="button" class="link text-sm mt-2" onclick={() => theme.toggle()}
      >{theme.current === 'kettle-day' ? 'Dark' : 'Light'} colors</button
    >
  </main>
</div>
