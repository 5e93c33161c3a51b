<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import { Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import AttemptList from '../AttemptList.svelte';
  import LifeTable from '../LifeTable.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** What ends the connection and when, and its last renewals on the wire. */
  const { connection: c }: { connection: Connection } = $props();
  const attempts = new Query(() => call('listAttempts', { params: { connection: c.name } }), 4_000);
  $effect(() => {
    void c.name;
    return attempts.start();
  });
</script>

{#if c.consented_at && c.lifetime.lines.length > 0}<section class="mb-6" aria-labelledby="live">
    <h2 id="live" class="mb-1">Expiration and renewal</h2>
    <LifeTable lifetime={c.lifetime} />
  </section>{/if}
<section aria-labelledby="attempts" class="mb-6">
  <h2 id="attempts" class="mb-1">Recent renewals</h2>
  <ProblemNote problem={attempts.problem} />
  <AttemptList items={attempts.value?.items ?? []} />
</section>
