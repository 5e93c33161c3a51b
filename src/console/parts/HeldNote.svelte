<script lang="ts">
  import type { Status } from '../../api/status.ts';
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Renewals are held: why, and the one button that ends it, asked twice. */
  const { installation, done }: { installation: Status['installation']; done: () => unknown } = $props();
  const doing = new Doing();
  let asking = $state(false);
  const own = () =>
    doing.run(async () => {
      await call('ownInstallation');
      await done();
    });
</script>

<section class="border-l-4 border-error bg-error/10 px-4 py-3 mb-6" role="alert" aria-labelledby="held">
  <h2 id="held">Renewals are held, since <Time at={installation.held_at} /></h2>
  <p>{installation.why}</p>
  <p class="mb-2">Tokens that are good are still issued. Nothing that could spend a refresh token is sent.</p>
  {#if asking}
    <p>Is it certain that no other installation renews these grants? Two of them end each other’s refresh tokens.</p>
    <button class="btn btn-error btn-sm mt-1" disabled={doing.busy} onclick={own}>Yes, this one owns them: go on</button>
    <button class="btn btn-sm mt-1" onclick={() => (asking = false)}>Keep holding</button>
  {:else}<button class="btn btn-sm" onclick={() => (asking = true)}>This installation owns the grants…</button>{/if}
  <ProblemNote problem={doing.problem} />
</section>
