<script lang="ts">
  import type { Client } from '../../api/clients.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** New addresses for a secret or tokens: nothing goes there until an operator confirms with their own password. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  let password = $state('');
  const doing = new Action();
  const confirm = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('confirmOrigins', { params: { provider: c.provider, client: c.name }, body: { password } });
      password = '';
      await done();
    });
  };
</script>

<section class="border-l-4 border-error bg-base-200 px-4 py-3 mb-4" aria-label="New addresses">
  <p class="font-semibold">The definition now sends this client’s secret and tokens to:</p>
  <ul class="list-disc ml-5 my-1">
    {#each c.unconfirmed_origins as origin (origin)}<li class="mono break-all">{origin}</li>{/each}
  </ul>
  <p class="mb-2">
    Nothing is sent to these addresses yet. A wrong address receives the secret: compare each one with the provider’s documentation.
  </p>
  <form onsubmit={confirm} class="max-w-sm">
    <Field id="own-password" label="Your own password"
      ><input
        id="own-password"
        type="password"
        class="input w-full"
        required
        autocomplete="current-password"
        bind:value={password}
      /></Field
    >
    <ProblemNote problem={doing.problem} /><button class="btn btn-sm btn-error" disabled={doing.busy}>These are the provider’s</button>
  </form>
</section>
