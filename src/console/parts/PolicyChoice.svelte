<script lang="ts">
  import type { Connection } from '../../api/connections.ts';
  import { POLICY_LABELS } from '../../api/vocabulary.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** When the connection is renewed. The grant is kept active in any case. */
  const { connection, done }: { connection: Connection; done: () => unknown } = $props();
  const doing = new Action();
  const change = (policy: string) =>
    doing.run(async () => {
      await call('changeConnection', {
        params: { connection: connection.name },
        body: { revision: connection.revision, policy: policy as keyof typeof POLICY_LABELS },
      });
      await done();
    });
</script>

<select
  class="select select-sm w-80 text-[0.95rem]"
  aria-label="When it is renewed"
  disabled={doing.busy}
  value={connection.policy}
  onchange={(event) => change(event.currentTarget.value)}
>
  {#each Object.entries(POLICY_LABELS) as [policy, says] (policy)}<option value={policy}>{says}</option>{/each}
</select>
<ProblemNote problem={doing.problem} />
