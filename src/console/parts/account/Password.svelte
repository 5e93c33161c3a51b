<script lang="ts">
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import PasswordField from '../../ui/PasswordField.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** One's own password. */
  let current = $state('');
  let password = $state('');
  let says = $state('');
  const [changing, ending] = [new Action(), new Action()];
  const endedSessions = (ended: number) =>
    ended === 0 ? 'No other sessions.' : `${ended} other ${ended === 1 ? 'session' : 'sessions'} signed out.`;
  const change = (event: SubmitEvent) => {
    event.preventDefault();
    void changing.run(async () => {
      says = '';
      const { ended } = await call('changePassword', { body: { current, password } });
      [current, password] = ['', ''];
      says = `Password changed. ${endedSessions(ended)}`;
    });
  };
  const endOthers = () =>
    ending.run(async () => {
      says = '';
      says = endedSessions((await call('endOtherSessions')).ended);
    });
</script>

<section class="max-w-2xl mt-8" aria-labelledby="own-account">
  <h2 id="own-account">Password</h2>
  <form onsubmit={change}>
    <PasswordField id="current-password" label="Current password" bind:value={current} />
    <PasswordField
      id="new-password"
      label="New password"
      fresh
      help="At least 10 characters. Your other sessions are signed out."
      bind:value={password}
    />
    <ProblemNote problem={changing.problem ?? ending.problem} />
    <button class="btn btn-primary btn-sm" disabled={changing.busy}>Change password</button>
    <button type="button" class="btn btn-sm" disabled={ending.busy} onclick={endOthers}>Sign out other sessions</button>
    <span role="status" class="text-success font-semibold">{says}</span>
  </form>
</section>
