<script lang="ts">
  import type { Channel } from '../../../api/notices.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Time from '../../ui/Time.svelte';
  import { notify } from '../../ui/toast.ts';
  import ProblemNote from '../ProblemNote.svelte';
  import StoredAddress from '../StoredAddress.svelte';
  import ChannelForm from './ChannelForm.svelte';

  /** How notices reach people, and whether that works. */
  const list = new Query(() => call('listChannels', {}), 5_000);
  $effect(() => list.start());
  const doing = new Action();
  let removing = $state<string | null>(null);
  const act = (work: () => Promise<string>) =>
    doing.run(async () => {
      notify(await work());
      await list.load();
    });
  const test = (channel: string) => act(async () => (await call('testChannel', { params: { channel } })).says);
  const replay = (channel: string) =>
    act(async () => `${(await call('replayChannel', { params: { channel } })).sent_again} are sent again.`);
  const enable = ({ name: channel, revision, enabled }: Channel) =>
    act(async () => {
      await call('changeChannel', { params: { channel }, body: { revision, enabled: !enabled } });
      return enabled ? 'Nothing is sent any more.' : 'Notices are sent again.';
    });
  const remove = () =>
    act(async () => {
      await call('removeChannel', { params: { channel: removing ?? '' } });
      removing = null;
      return 'Removed.';
    });
  const whenOf = ({ rule: { severities, digest_at: at, zone, quiet } }: Channel) =>
    `action needed: ${severities.action}, warnings: ${severities.warning}, information: ${severities.info}. Digest at ${at} (${zone})` +
    (quiet ? `, quiet from ${quiet.from} to ${quiet.to}.` : '.');
</script>

<p class="mb-3 max-w-2xl">
  Notices always stand in the console. A channel sends them to people and programs as well: one message for each cause, and one when it is
  fixed.
</p>
<ProblemNote problem={list.problem ?? doing.problem} />
{#each list.value?.items ?? [] as one (one.name)}
  <section class="panel px-4 py-3 mb-3 max-w-3xl" aria-label={`Channel ${one.name}`}>
    <div class="flex flex-wrap items-center gap-x-3 gap-y-1">
      <h3 class="font-semibold">{one.name}</h3>
      <span class="text-base-content/70"
        >{one.kind} to {#if one.url}<StoredAddress
            url={one.url}
            show={() => call('showChannelValues', { params: { channel: one.name } })}
          />{:else}<span class="mono">{one.script ?? one.to.join(', ')}</span>{/if}</span
      >
      {#if !one.enabled}<span class="font-semibold">disabled</span>
      {:else if one.failing_since}<span class="font-semibold text-error">failing since <Time at={one.failing_since} /></span>{/if}
      <span class="ml-auto flex flex-wrap gap-1">
        <button class="btn btn-xs" disabled={doing.busy} onclick={() => test(one.name)}>Send a test</button>
        <button class="btn btn-xs" disabled={doing.busy} onclick={() => replay(one.name)}>Send failed again</button>
        <button class="btn btn-xs" disabled={doing.busy} onclick={() => enable(one)}>{one.enabled ? 'Disable' : 'Enable'}</button>
        <button class="btn btn-xs" disabled={doing.busy} onclick={() => (removing = one.name)}>Remove</button>
      </span>
    </div>
    <p class="text-sm text-base-content/70">
      {whenOf(one)}
      {#if one.rule.labels.length > 0}Only labels {one.rule.labels.join(', ')}.{/if}
    </p>
    {#if one.last_at}<p class="text-sm"><Time at={one.last_at} />: {one.last_says}</p>{/if}
  </section>
{/each}
<h3 class="font-semibold mt-4 mb-1">New channel</h3>
<ChannelForm added={() => list.load()} />
<Confirm
  bind:open={() => removing !== null, (open) => (removing = open ? removing : null)}
  title={`Remove the channel ${removing}?`}
  action="Remove"
  busy={doing.busy}
  problem={doing.problem}
  run={remove}><p>What it has not sent yet is discarded. Notices stay in the console.</p></Confirm
>
