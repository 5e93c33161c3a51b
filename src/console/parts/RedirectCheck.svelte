<script lang="ts">
  import type { AnswerOf } from '../../api/operations.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Compares the redirect URI as the provider shows it with ours, and points at the first character that differs. */
  const { provider, client, label, done }: { provider: string; client: string; label: string; done?: () => unknown } = $props();
  let registered = $state('');
  let verdict = $state.raw<AnswerOf<'checkRedirectUri'> | null>(null);
  const checking = new Action();
  const check = (event: SubmitEvent) => {
    event.preventDefault();
    void checking.run(async () => {
      verdict = await call('checkRedirectUri', { params: { provider, client }, body: { registered } });
      await done?.();
    });
  };
</script>

<form onsubmit={check} class="flex flex-wrap items-end gap-2 max-w-3xl">
  <label class="grow"
    >{label}<textarea
      class="textarea textarea-sm w-full mono min-h-8 h-9"
      rows="1"
      required
      spellcheck="false"
      bind:value={registered}
      oninput={() => (verdict = null)}></textarea></label
  >
  <button class="btn btn-sm" disabled={checking.busy}>Compare</button>
</form>
<ProblemNote problem={checking.problem} />
{#if verdict}
  <div class="mt-2" role="status">
    <p class={['font-semibold', verdict.same ? 'text-success' : 'text-error']}>{verdict.says}</p>
    {#if verdict.at !== null}<p class="mono break-all">
        {verdict.shown.slice(0, verdict.at)}<mark class="bg-error text-error-content px-0.5"
          >{verdict.shown.slice(verdict.at, verdict.at + 1) || '⌫'}</mark
        >{verdict.shown.slice(verdict.at + 1)}
      </p>{/if}
  </div>
{/if}
