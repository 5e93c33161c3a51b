<script lang="ts">
  import { push } from 'svelte-spa-router';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';
  import PasswordField from '../ui/PasswordField.svelte';
  import Time from '../ui/Time.svelte';

  const { params }: { params: { ticket: string } } = $props();
  const invited = new Query(() => call('showJoin', { body: { ticket: params.ticket } }));
  $effect(() => {
    void params.ticket;
    return invited.start();
  });
  let password = $state('');
  const joining = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void joining.run(async () => {
      await call('joinOperator', { body: { ticket: params.ticket, password } });
      await session.signIn(invited.value?.operator ?? '', password);
      await push('/');
    });
  };
</script>

<Title title="Set your password" />
<ProblemNote problem={invited.problem} />
{#if invited.value}
  {@const one = invited.value}
  <dl class="facts mb-4 max-w-xl">
    <dt>Operator</dt>
    <dd class="font-semibold">{one.operator}</dd>
    <dt>Role</dt>
    <dd>{one.role}{one.labels.length > 0 ? `, limited to connections with ${one.labels.join(', ')}` : ''}</dd>
    {#if one.invited_by}
      <dt>Invited by</dt>
      <dd>{one.invited_by}</dd>
    {/if}
    <dt>Link expires</dt>
    <dd><Time at={one.ends_at} /></dd>
  </dl>
  <form class="max-w-sm" onsubmit={submit}>
    <input type="hidden" autocomplete="username" value={one.operator} />
    <PasswordField label="New password" fresh bind:value={password} />
    <ProblemNote problem={joining.problem} />
    <button class="btn btn-primary" disabled={joining.busy}>Save password and sign in</button>
  </form>
{/if}
