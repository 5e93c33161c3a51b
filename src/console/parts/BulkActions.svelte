<script lang="ts">
  import { Action } from '../state/query.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';
  import { notify } from '../ui/toast.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Actions on the connections selected; what fails for some is listed, with its reason. */
  const { connections, clear, done }: { connections: string[]; clear: () => void; done: () => Promise<unknown> } = $props();
  const doing = new Action();
  let label = $state('');
  let failed = $state.raw<{ connection: string; problem: string | null }[]>([]);
  const WORDS = { pause: 'paused', resume: 'resumed', renew: 'renewed', add_label: 'labeled', remove_label: 'changed' } as const;
  const act = (action: keyof typeof WORDS) =>
    doing.run(async () => {
      failed = [];
      const body = { connections, action, ...(action.endsWith('_label') && { label: label.trim() }) };
      const outcome = await call('changeConnections', { body });
      failed = outcome.items.filter((one) => !one.done);
      await done();
      notify(`${counted(outcome.done, 'connection')} ${WORDS[action]}.`);
    });
</script>

<div class="panel bg-base-200 px-3 py-2 mb-3 flex flex-wrap items-center gap-2" role="group" aria-label="Selected connections">
  <span class="font-semibold tabular-nums">{connections.length} selected</span>
  <button class="btn btn-sm" disabled={doing.busy} onclick={() => act('renew')}>Renew now</button>
  <button class="btn btn-sm" disabled={doing.busy} onclick={() => act('pause')}>Pause</button>
  <button class="btn btn-sm" disabled={doing.busy} onclick={() => act('resume')}>Resume</button>
  <input class="input input-sm w-32 ml-2" aria-label="Label to add or remove" placeholder="Label" bind:value={label} />
  <button class="btn btn-sm" disabled={doing.busy || label.trim() === ''} onclick={() => act('add_label')}>Add label</button>
  <button class="btn btn-sm" disabled={doing.busy || label.trim() === ''} onclick={() => act('remove_label')}>Remove label</button>
  <button class="btn btn-sm btn-ghost ml-auto" onclick={clear}>Clear selection</button>
  {#if doing.busy}<progress class="progress progress-primary basis-full h-1" aria-label="Working"></progress>{/if}
  {#if failed.length > 0}<ul class="basis-full text-error" role="alert">
      {#each failed as one (one.connection)}<li>
          <a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a>: {one.problem}
        </li>{/each}
    </ul>{/if}
</div>
<ProblemNote problem={doing.problem} />
