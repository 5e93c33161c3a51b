<script lang="ts">
  import { GRANT_KIND_LABELS, PROOF_LABELS } from '../../api/vocabulary.ts';
  import type { Connection } from '../../api/connections.ts';
  import type { AnswerOf } from '../../api/operations.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Answer from './Answer.svelte';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Tokens or a key that wait beside those in use: used by a stated act, with a call before and after, or discarded. */
  const { connection: c, done }: { connection: Connection; done: () => unknown } = $props();
  let path = $state('');
  let asking = $state<'use' | 'discard' | null>(null);
  let decided = $state.raw<AnswerOf<'decideStandby'> | null>(null);
  const deciding = new Action();
  const consequence = $derived(c.callers.length > 0 ? `${c.callers.join(', ')} will use it.` : 'No caller uses this connection yet.');
  const decide = (decision: 'use' | 'discard') =>
    deciding.run(async () => {
      asking = null;
      decided = await call('decideStandby', {
        params: { connection: c.name },
        body: { decision, ...(decision === 'use' && path.trim() ? { path: path.trim() } : {}) },
      });
      await done();
    });
</script>

{#if c.standby}
  {@const w = c.standby}
  <section class="border-l-4 border-warning pl-4 py-2 mb-5 max-w-5xl" aria-label="Standby">
    <p class="font-semibold">{w.says}</p>
    <p>
      {[GRANT_KIND_LABELS[w.kind], w.account ? `of ${w.account}` : ''].filter(Boolean).join(' ')}{w.opened
        ? `, for ${w.opened}`
        : ''}{w.client === c.client ? '' : `, through the client ${w.client}`}; <Time at={w.consented_at} />; {PROOF_LABELS[
        w.proof
      ]}{#if !w.alive}{'; '}<span class="text-error">it has expired</span>{/if}.
    </p>
    {#if asking === 'use'}
      <p class="mt-1">
        {consequence} The reference call is made before and after; if it fails afterwards, what is in use now comes back.
      </p>
      <label class="flex flex-wrap items-center gap-2 my-1"
        >Reference call: GET <input class="input input-sm w-72 mono" placeholder={c.probe.path} bind:value={path} /></label
      >
      <button class="btn btn-sm btn-primary" disabled={deciding.busy} onclick={() => decide('use')}
        >{w.kind === 'static_key' || c.grant_kind === 'static_key' ? 'Switch now' : 'Switch now'}</button
      > <button class="btn btn-sm" onclick={() => (asking = null)}>Cancel</button>
    {:else if asking === 'discard'}
      <p class="mt-1">It is discarded here. At the provider it stays until it is withdrawn.</p>
      <button class="btn btn-sm btn-error" disabled={deciding.busy} onclick={() => decide('discard')}>Discard</button>
      <button class="btn btn-sm" onclick={() => (asking = null)}>Cancel</button>
    {:else}
      <p class="mt-1">
        <button class="btn btn-sm btn-primary" disabled={deciding.busy || !w.alive} onclick={() => (asking = 'use')}
          >{w.why === 'former' ? 'Switch back…' : 'Switch…'}</button
        > <button class="btn btn-sm" disabled={deciding.busy} onclick={() => (asking = 'discard')}>Discard…</button>
      </p>
    {/if}
    <ProblemNote problem={deciding.problem} />
  </section>
{/if}
{#if decided}
  <section class="mb-5 max-w-5xl" aria-label="What came of it">
    <p role="status" class={['font-semibold', decided.went_back ? 'text-error' : 'text-success']}>{decided.says}</p>
    {#if decided.compared && !decided.compared.same}<ul class="list-disc ml-5">
        {#each decided.compared.differences as line (line)}<li>{line}</li>{/each}
      </ul>{/if}
    {#if decided.before && decided.after}<div class="grid lg:grid-cols-2 gap-4 mt-2">
        <div>
          <h3 class="font-semibold">Before</h3>
          <Answer answer={decided.before} />
        </div>
        <div>
          <h3 class="font-semibold">After</h3>
          <Answer answer={decided.after} />
        </div>
      </div>{/if}
  </section>
{/if}
