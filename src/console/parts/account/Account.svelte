<script lang="ts">
  import { Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import ProblemNote from '../ProblemNote.svelte';
  import Password from './Password.svelte';
  import PersonalTokens from './PersonalTokens.svelte';
  import SecondFactors from './SecondFactors.svelte';
  import Sessions from './Sessions.svelte';

  /** One's own account: role, second factors, sessions, personal tokens, password. */
  const account = new Query(() => call('showAccount'), 10_000);
  $effect(() => account.start());
  const changed = () => account.load();
</script>

<ProblemNote problem={account.problem} />
{#if account.value}
  {@const one = account.value}
  <dl class="facts max-w-2xl">
    <dt>Operator</dt>
    <dd class="font-semibold">{one.operator}</dd>
    <dt>Role</dt>
    <dd>{one.role}</dd>
    <dt>Limited to</dt>
    <dd>{one.labels.join(', ') || 'no limit'}</dd>
  </dl>
  <SecondFactors account={one} {changed} />
  <Sessions sessions={one.sessions.filter((each) => each.kind !== 'token')} {changed} />
  <PersonalTokens tokens={one.sessions.filter((each) => each.kind === 'token')} role={one.role} {changed} />
  {#if one.has_password}<Password />{/if}
{/if}
