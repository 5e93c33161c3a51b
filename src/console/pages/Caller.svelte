<script lang="ts">
  import { push } from 'svelte-spa-router';
  import type { NewKey } from '../../api/callers.ts';
  import Copy from '../parts/Copy.svelte';
  import HistoryList from '../parts/HistoryList.svelte';
  import Moment from '../parts/Moment.svelte';
  import NewKeyNote from '../parts/NewKeyNote.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Doing, Loaded } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const { params }: { params: { caller: string } } = $props();
  const key = $derived({ caller: params.caller });
  const loaded = new Loaded(() => call('showCaller', { params: key }), 3_000);
  const connections = new Loaded(() => call('listConnections', { query: { limit: 500 } }));
  const past = new Loaded(() => call('listHistory', { query: { subject: `caller:${params.caller}`, limit: 20 } }), 5_000);
  $effect(() => {
    void key;
    const stops = [loaded.start(), connections.start(), past.start()];
    return () => stops.forEach((stop) => stop());
  });
  const c = $derived(loaded.value);
  let made = $state.raw<NewKey | null>(null);
  let asking = $state<string | null>(null);
  const doing = new Doing();
  const addKey = () => doing.run(async () => { made = await call('addKey', { params: key, body: { label: '' } }); await loaded.load(); });
  const retire = (id: string) => doing.run(async () => { await call('retireKey', { params: { ...key, key: id } }); asking = null; await loaded.load(); });
  const permit = (name: string, may: boolean) =>
    doing.run(async () => {
      const now = c?.connections ?? [];
      await call('changeCaller', { params: key, body: { connections: may ? [...now, name] : now.filter((one) => one !== name) } });
      await loaded.load();
    });
  const remove = () => doing.run(async () => { await call('removeCaller', { params: key }); await push('/callers'); });
</script>

<Title title={params.caller} up={{ href: '#/callers', name: 'Callers' }}><button class="btn btn-sm" disabled={doing.busy} onclick={addKey}>Add a key</button></Title>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if made}<NewKeyNote {made} onclose={() => (made = null)} />{/if}
{#if c}
  <div class="grid lg:grid-cols-2 gap-6 mb-6">
    <section aria-labelledby="paste"><h2 id="paste" class="mb-1">What the integration needs</h2>
      <dl class="facts"><dt>Token URL</dt><dd><Copy value={c.token_url} label="the token URL" /></dd><dt>Grant type</dt><dd><code>client_credentials</code></dd><dt>Client id</dt><dd><Copy value={c.caller_id} label="the client id" /></dd><dt>Client secret</dt><dd>a key, shown once when it was made</dd>
        <dt>Last hour</dt><dd>{c.handouts_last_hour} tokens, {c.refused_last_hour} refused</dd></dl>
    </section>
    <section aria-labelledby="may"><h2 id="may" class="mb-1">May use</h2>
      {#each connections.value?.items ?? [] as one (one.name)}<label class="flex items-center gap-2 py-0.5"><input type="checkbox" class="checkbox checkbox-sm" checked={c.connections.includes(one.name)} disabled={doing.busy} onchange={(event) => permit(one.name, event.currentTarget.checked)} /><a class="link" href={`#/connections/${one.name}`}>{one.name}</a> <span class="text-base-content/70">{one.provider_title}</span></label>{:else}<p>There is no connection to give it yet. <a class="link link-primary" href="#/connections/new">Open one</a></p>{/each}
    </section>
  </div>
  <section class="mb-6" aria-labelledby="keys"><h2 id="keys" class="mb-1">Keys</h2>
    <table class="list-table"><thead><tr><th>Starts with</th><th>Label</th><th>Made</th><th>Last used</th><th>State</th><th></th></tr></thead>
      <tbody>{#each c.keys as one (one.id)}<tr><td class="mono">{one.starts}…</td><td>{one.label}</td><td><Moment at={one.added_at} /></td><td><Moment at={one.last_used_at} none="never" /></td><td>{#if one.retired_at}retired <Moment at={one.retired_at} />{:else}in use{/if}</td>
        <td class="text-right">{#if !one.retired_at}{#if asking === one.id}It stops working at once. <button class="btn btn-xs btn-error" disabled={doing.busy} onclick={() => retire(one.id)}>Retire it</button> <button class="btn btn-xs" onclick={() => (asking = null)}>Keep it</button>{:else}<button class="btn btn-xs" onclick={() => (asking = one.id)}>Retire…</button>{/if}{/if}</td></tr>{/each}</tbody></table>
  </section>
  <section class="mb-6" aria-labelledby="past"><h2 id="past" class="mb-1">History</h2><HistoryList items={past.value?.items ?? []} /></section>
  {#if asking === 'caller'}<p class="border-l-4 border-error pl-4">Remove {c.name}? Its keys stop working at once. <button class="btn btn-sm btn-error" disabled={doing.busy} onclick={remove}>Remove it</button> <button class="btn btn-sm" onclick={() => (asking = null)}>Keep it</button></p>
  {:else}<button class="btn btn-sm btn-outline btn-error" onclick={() => (asking = 'caller')}>Remove…</button>{/if}
{:else if !loaded.problem}<p aria-busy="true">Reading…</p>{/if}
