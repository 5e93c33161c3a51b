<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import { Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import QuotaTable from '../QuotaTable.svelte';
  import UserTable from '../UserTable.svelte';

  /** The callers of a connection, and what is left of the provider's quota. */
  const { connection: c }: { connection: Connection } = $props();
  const quota = new Query(() => call('showQuota', { params: { connection: c.name } }), 5_000);
  $effect(() => {
    void c.name;
    return quota.start();
  });
</script>

<section class="mb-6" aria-labelledby="users">
  <h2 id="users" class="mb-1">Used by</h2>
  <UserTable users={c.callers_last_used} />
</section>
{#if quota.value && quota.value.items.length > 0}<section class="mb-6" aria-labelledby="quota">
    <h2 id="quota" class="mb-1">Quota</h2>
    <QuotaTable quota={quota.value} />
  </section>{/if}
