<script lang="ts">
  import type { AnswerOf } from '../../api/operations.ts';
  import type { Status } from '../../api/status.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Renewals are on hold: the reason, and the one button that ends it, after a confirmation. */
  const { installation, done }: { installation: Status['installation']; done: () => unknown } = $props();
  const doing = new Action();
  let asking = $state(false);
  let risks = $state.raw<AnswerOf<'listInstallationRisks'>>({ items: [], more: false });
  const SHOWN = 10;
  const ask = () =>
    doing.run(async () => {
      risks = await call('listInstallationRisks');
      asking = true;
    });
  const own = () =>
    doing.run(async () => {
      await call('ownInstallation');
      await done();
    });
</script>

<section class="border-l-4 border-error bg-error/10 px-4 py-3 mb-6" role="alert" aria-labelledby="held">
  <h2 id="held">Renewals are on hold</h2>
  <p>Since: <Time at={installation.held_at} />. {installation.why}</p>
  <p class="mb-2">Valid tokens are still issued. No refresh token that rotates is sent.</p>
  {#if asking}
    {#if risks.items.length > 0}
      <p>At risk, where a later renewal was lost or another installation renews too:</p>
      <ul class="list-disc pl-5 mb-2">
        {#each risks.items.slice(0, SHOWN) as one (one.connection)}
          <li>
            <a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a>, renewed <Time at={one.renewed_at} />: {one.says}
          </li>
        {/each}
        {#if risks.more || risks.items.length > SHOWN}<li>More: <code>rk installation risks</code></li>{/if}
      </ul>
    {/if}
    <p>Make sure that no other installation renews these grants, and that every replica has been started.</p>
    <button class="btn btn-error btn-sm mt-1" disabled={doing.busy} onclick={own}>Resume renewals here</button>
    <button class="btn btn-sm mt-1" onclick={() => (asking = false)}>Cancel</button>
  {:else}<button class="btn btn-sm" disabled={doing.busy} onclick={ask}>Resume renewals…</button>{/if}
  <ProblemNote problem={doing.problem} />
</section>
