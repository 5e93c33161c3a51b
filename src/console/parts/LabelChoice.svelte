<script lang="ts">
  import type { Connection } from '../../api/connections.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Labels, by which callers can be permitted a group of connections. */
  const { connection: c, done }: { connection: Connection; done: () => unknown } = $props();
  let editing = $state(false);
  let text = $state('');
  const doing = new Action();
  const save = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('changeConnection', {
        params: { connection: c.name },
        body: { revision: c.revision, labels: text.split(/[\s,]+/).filter(Boolean) },
      });
      editing = false;
      await done();
    });
  };
</script>

{#if editing}
  <form class="flex flex-wrap gap-2 items-center" onsubmit={save}>
    <input class="input input-sm w-64 mono" aria-label="Labels, separated by spaces" bind:value={text} /><button
      class="btn btn-xs btn-primary"
      disabled={doing.busy}>Save</button
    ><button type="button" class="btn btn-xs" onclick={() => (editing = false)}>Cancel</button>
  </form>
  <p class="text-sm text-base-content/70">Whoever may use a label may use what carries it.</p>
{:else}{#each c.labels as label (label)}<code class="mr-2">{label}</code>{:else}<span class="text-base-content/70 mr-2">none</span
    >{/each}<button class="btn btn-xs" aria-label="Change labels" onclick={() => ([text, editing] = [c.labels.join(' '), true])}
    >Change…</button
  >{/if}
<ProblemNote problem={doing.problem} />
