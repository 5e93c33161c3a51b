<script lang="ts">
  import ExternalLink from '@lucide/svelte/icons/external-link';
  import type { ConsentOutcome } from '../../api/connections.ts';
  import { clock } from '../state/clock.svelte.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';
  import ReadyNote from './ReadyNote.svelte';
  import type { Client } from '../../api/clients.ts';

  /** A code that the provider's console prints: everything else first, then one paste, exchanged at once. */
  const { outcome: o, ready, done }: { outcome: ConsentOutcome; ready: Client['ready'] | null; done: () => unknown } = $props();
  let code = $state('');
  let printedAt = $state<number | null>(null);
  const wants = $derived(o.wants_code);
  const left = $derived(
    printedAt === null || wants === null ? null : Math.max(0, Math.ceil((printedAt + wants.seconds * 1000 - clock.now) / 1000)),
  );
  const giving = new Action();
  const give = (event: SubmitEvent) => {
    event.preventDefault();
    void giving.run(async () => {
      await call('giveCode', { params: { consent: o.id }, body: { code } });
      code = '';
      await done();
    });
  };
</script>

{#if wants}
  {#if ready}<ReadyNote {ready} />{/if}
  <ol class="list-decimal ml-5 max-w-2xl">
    <li class="mb-2">
      Now print the code at {o.provider_title}: “{wants.called}”. It lives {Math.round(wants.seconds / 60)} minutes and works once.
      {#if wants.page}<a class="btn btn-sm ml-1" href={wants.page} target="_blank" rel="noopener" onclick={() => (printedAt = clock.now)}
          >Open their page<ExternalLink size={14} aria-hidden="true" /></a
        >{/if}
      {#if left !== null}<span role="timer" class={['ml-2 font-semibold tabular-nums', left < 60 && 'text-warning']}
          >{left > 0
            ? `at most ${Math.floor(left / 60)}:${String(left % 60).padStart(2, '0')} left`
            : 'it may have expired: print another one'}</span
        >{/if}
    </li>
    <li>
      Paste it here; it is exchanged at once.
      <form onsubmit={give} class="flex items-end gap-2 mt-1">
        <label class="grow">Code<input class="input w-full mono" autocomplete="off" spellcheck="false" required bind:value={code} /></label
        ><button class="btn btn-primary" disabled={giving.busy || !code.trim()}>Exchange it</button>
      </form>
    </li>
  </ol>
  <ProblemNote problem={giving.problem} />
{/if}
