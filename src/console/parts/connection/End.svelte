<script lang="ts">
  import { push } from 'svelte-spa-router';
  import type { Connection } from '../../../api/connections.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Time from '../../ui/Time.svelte';

  /** Revokes or removes a connection, after showing what stops working. */
  interface Props {
    connection: Connection;
    ending: 'revoke' | 'remove' | null;
    done: () => Promise<unknown>;
  }
  let { connection: c, ending = $bindable(), done }: Props = $props();
  const doing = new Action();
  let revoked = $state('');
  const key = $derived({ params: { connection: c.name } });
  const revoke = () =>
    doing.run(async () => {
      revoked = (await call('revokeConnection', key)).says;
      ending = null;
      await done();
    });
  const remove = () =>
    doing.run(async () => {
      await call('removeConnection', key);
      ending = null;
      await push('/connections');
    });
  const close = (isOpen: boolean) => {
    if (!isOpen) ending = null;
  };
</script>

{#snippet users()}
  {#if c.callers_last_used.length > 0}<p class="mt-2">This stops working:</p>
    <ul class="list-disc ml-5">
      {#each c.callers_last_used as one (one.caller)}<li>
          <a class="link" href={`#/callers/${one.caller}`}>{one.caller}</a>, last used <Time at={one.at} none="never" />
        </li>{/each}
    </ul>{:else}<p class="mt-2">No caller uses it.</p>{/if}
{/snippet}

{#if revoked}<p role="status" class="mt-4">Revoked. {revoked}</p>{/if}
<Confirm
  bind:open={() => ending === 'revoke', close}
  title={`Revoke ${c.name}?`}
  action="Revoke"
  busy={doing.busy}
  problem={doing.problem}
  run={revoke}
>
  <p>The grant ends at the provider, and its tokens are deleted here. Name, callers and history stay.</p>
  <p>Tokens already issued stay valid at the provider until they expire.</p>
  {@render users()}
</Confirm>
<Confirm
  bind:open={() => ending === 'remove', close}
  title={`Remove ${c.name}?`}
  action="Remove"
  busy={doing.busy}
  problem={doing.problem}
  run={remove}
>
  <p>Its tokens are deleted here. At the provider, the grant stays until someone withdraws it.</p>
  {@render users()}
</Confirm>
