<script lang="ts">
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call, session } from '../../state/session.svelte.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** Which key seals what, and how far re-sealing is. */
  const keys = new Query(() => call('showKeys'), 2_000);
  $effect(() => keys.start());
  const isRunning = $derived(keys.value?.reseal?.state === 'running');
  $effect(() => {
    if (!isRunning) return;
    const timer = setInterval(() => document.hidden || void keys.load(), 1_000);
    return () => clearInterval(timer);
  });
  let rotating = $state(false);
  const doing = new Action();
  const rotate = () =>
    doing.run(async () => {
      await call('rotateKeys');
      rotating = false;
      await keys.load();
    });
</script>

{#if !session.may('showKeys')}<p>Only administrators see keys.</p>
{:else}
  <p class="mb-3 max-w-2xl">
    Secrets are sealed under data keys, and these under the master key, which is not in the database. A data key is replaced every 90 days,
    or when you press Make new key. <a class="link" href="#/help/how-to.change-keys">How to change the master key</a>
  </p>
  <ProblemNote problem={keys.problem ?? doing.problem} />
  {#if keys.value}
    {@const all = keys.value}
    {@const reseal = all.reseal}
    <dl class="facts max-w-2xl mb-3">
      <dt>Master key</dt>
      <dd class="mono">{all.master_key}</dd>
      {#if all.master_key_changed_at}
        <dt>Changed</dt>
        <dd><Time at={all.master_key_changed_at} /></dd>
      {/if}
      {#if all.without_key > 0}
        <dt>Values without key</dt>
        <dd class="text-error font-semibold">{all.without_key}: restore database and keys from one backup</dd>
      {/if}
    </dl>
    {#if reseal}
      <p role="status">
        {reseal.state === 'running' ? 'Sealing everything under the new key' : 'Everything was sealed under a new key'}:
        {reseal.done.toLocaleString()} of {reseal.total.toLocaleString()}, started by {reseal.started_by}
        <Time at={reseal.started_at} />
      </p>
      {#if reseal.state === 'running'}<progress
          class="progress progress-primary w-full max-w-xl"
          max={Math.max(1, reseal.total)}
          value={reseal.done}
          aria-label="Values sealed under the new key"
        ></progress>{/if}
    {/if}
    <table class="list-table mt-3 max-w-4xl">
      <caption class="sr-only">Data keys</caption>
      <thead><tr><th>Data key</th><th>State</th><th class="text-right">Values</th><th>Made</th><th>Wrapped by</th></tr></thead>
      <tbody>
        {#each all.data_keys as key (key.id)}
          <tr>
            <td data-label="Data key" class="mono">{key.id}</td>
            <td data-label="State">{key.seals ? 'seals' : 'only opens'}</td>
            <td data-label="Values" class="text-right tabular-nums">{key.values.toLocaleString()}</td>
            <td data-label="Made"><Time at={key.created_at} /></td>
            <td data-label="Wrapped by" class="mono">{key.master_key}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    <button class="btn btn-sm mt-3" disabled={doing.busy || isRunning} onclick={() => (rotating = true)}>Make new key</button>
  {/if}
{/if}
<Confirm bind:open={rotating} title="Make a new data key?" action="Make new key" busy={doing.busy} problem={doing.problem} run={rotate}
  ><p>Everything is re-sealed under it in the background. Renewals and callers go on meanwhile.</p></Confirm
>
