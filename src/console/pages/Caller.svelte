<script lang="ts">
  import { push } from 'svelte-spa-router';
  import type { NewKey } from '../../api/callers.ts';
  import Copy from '../parts/Copy.svelte';
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import KeyTable from '../parts/KeyTable.svelte';
  import Moment from '../parts/Moment.svelte';
  import NewKeyNote from '../parts/NewKeyNote.svelte';
  import PermissionTable from '../parts/PermissionTable.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import SetupPanel from '../parts/SetupPanel.svelte';
  import Title from '../parts/Title.svelte';
  import ToolSettings from '../parts/ToolSettings.svelte';
  import UseTable from '../parts/UseTable.svelte';
  import { Doing, Loaded } from '../state/loaded.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { caller: string } } = $props();
  const key = $derived({ caller: params.caller });
  const loaded = new Loaded(() => call('showCaller', { params: key }), 3_000);
  const connections = new Loaded(() => call('listConnections', { query: { limit: 500 } }));
  let happened = $state(0);
  $effect(() => {
    void key;
    const stops = [loaded.start(), connections.start()];
    return () => stops.forEach((stop) => stop());
  });
  const c = $derived(loaded.value);
  let made = $state.raw<NewKey | null>(null);
  let removing = $state(false);
  const doing = new Doing();
  const again = () => {
    happened += 1;
    return loaded.load();
  };
  const remove = () =>
    doing.run(async () => {
      await call('removeCaller', { params: key });
      await push('/callers');
    });
</script>

<Title title={params.caller} up={{ href: '#/callers', name: 'Callers' }} />
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if made}<NewKeyNote {made} onclose={() => (made = null)} />{/if}
{#if c}
  <dl class="facts mb-6">
    {#if c.title}<dt>Is</dt>
      <dd>{c.title}</dd>{/if}
    <dt>Client id</dt>
    <dd><Copy value={c.caller_id} label="the client id" /></dd>
    <dt>Last hour</dt>
    <dd>
      {counted(c.tokens_last_hour, 'token')}, {counted(c.relayed_last_hour, 'relayed call')}, {c.refused_last_hour} rejected; last used <Moment
        at={c.last_used_at}
        none="never"
      />
    </dd>
  </dl>
  <section class="mb-6" aria-labelledby="may">
    <h2 id="may" class="mb-1">What it may use</h2>
    <PermissionTable caller={c} connections={connections.value?.items ?? []} done={again} />
  </section>
  <section class="mb-6" aria-labelledby="paste">
    <h2 id="paste" class="mb-1">What to paste into the tool</h2>
    <SetupPanel
      caller={c.name}
      connections={c.connections}
      total={c.connections_total}
      version={JSON.stringify([c.redirect_uris, c.token_path, c.keeps_no_secret, c.permissions])}
    />
  </section>
  <section class="mb-6" aria-labelledby="uses">
    <h2 id="uses" class="mb-1">What it used in the last day</h2>
    <UseTable uses={c.uses} total={c.uses_total} />
  </section>
  <section class="mb-6" aria-labelledby="keys">
    <h2 id="keys" class="mb-1">Keys</h2>
    <KeyTable caller={c} done={again} made={(one) => (made = one)} />
  </section>
  <section class="mb-6" aria-labelledby="tool">
    <h2 id="tool" class="mb-1">The tool behind it</h2>
    <ToolSettings caller={c} done={again} />
  </section>
  <section class="mb-6" aria-labelledby="past">
    <h2 id="past" class="mb-1">History</h2>
    <HistoryPanel subject={`caller:${params.caller}`} version={happened} />
  </section>
  {#if removing}
    <div class="border-l-4 border-error pl-4 py-2" role="group" aria-label="Remove">
      <p>
        Remove <strong>{c.name}</strong>? Its keys{#if c.signed_in.some((one) => !one.ended_at)}, and its tools’ sign-ins,{/if} stop working within
        a second.
      </p>
      {#if c.uses.length > 0}<p>This stops working:</p>
        <ul class="list-disc ml-5">
          {#each c.uses as use (use.connection)}<li>
              {use.connection}: {counted(use.tokens, 'token')} and {counted(use.relayed, 'relayed call')} in the last day, the last <Moment
                at={use.last_at}
              />
            </li>{/each}{#if c.uses_total > c.uses.length}<li>
              and {counted(c.uses_total - c.uses.length, 'connection')} more that it used longer ago
            </li>{/if}
        </ul>{:else}<p>It used nothing in the last day.</p>{/if}
      <button class="btn btn-sm btn-error mt-1" disabled={doing.busy} onclick={remove}>Remove it</button>
      <button class="btn btn-sm mt-1" onclick={() => (removing = false)}>Keep it</button>
    </div>
  {:else}<button class="btn btn-sm btn-outline btn-error" onclick={() => (removing = true)}>Remove…</button>{/if}
{:else if !loaded.problem}<p aria-busy="true">Reading…</p>{/if}
