<script lang="ts">
  import Play from '@lucide/svelte/icons/play';
  import type { Recognized } from '../../api/jobs.ts';
  import type { TriedCall } from '../../api/trying.ts';
  import Field from '../ui/Field.svelte';
  import CallTransfer from './CallTransfer.svelte';
  import CollectAll from './collect/CollectAll.svelte';
  import MaskedNote from './MaskedNote.svelte';
  import LiveBanner from './LiveBanner.svelte';
  import OfferedList from './OfferedList.svelte';
  import PairRows from './PairRows.svelte';
  import ProblemNote from './ProblemNote.svelte';
  import SaveCallForm from './SaveCallForm.svelte';
  import TriedAnswer from './TriedAnswer.svelte';
  import { Composed } from '../state/composed.svelte.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  /** Call the provider's API through a connection; save the call, or export it as curl. */
  const { connection }: { connection: string } = $props();
  const named = $derived(connection); // equal names start nothing again
  const key = $derived({ connection: named });
  const offered = new Query(() => call('offeredCalls', { params: key }));
  $effect(() => {
    void named;
    return offered.start();
  });
  const METHODS = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'] as const;
  const x = new Composed();
  let answer = $state.raw<TriedCall | null>(null);
  let confirming = $state(false);
  /** Of this call, once someone confirmed it. */
  let paging = $state.raw<Recognized['declared']>(null);
  const doing = new Action();
  const o = $derived(offered.value);
  const live = $derived(o !== null && o.environment === 'live' && !o.rehearsal);
  const lacking = $derived(x.lacking(o?.placeholders ?? {}));
  const filled = $derived(Object.fromEntries(Object.entries(x.values).filter(([, value]) => value !== '')));
  const send = (effects: boolean) =>
    doing.run(async () => {
      confirming = false;
      answer = await call('callConnection', { params: key, body: { ...x.call, values: filled, effects } });
    });
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    if (x.writes && live) confirming = true;
    else void send(false);
  };
  const showValues = (name: string) => doing.run(async () => x.open(await call('showCallValues', { params: { ...key, call: name } })));
  const save = (name: string) =>
    doing.run(async () => {
      const own = x.names.filter((name) => x.values[name] !== undefined || o?.placeholders[name] === undefined);
      const parameters = own.map((name) => ({ name, says: x.says[name] ?? '', value: x.values[name] || null }));
      await call('saveCall', { params: key, body: { name, call: x.call, parameters, ...(paging ? { paging } : {}) } });
      x.keptAs(name);
      await offered.load();
    });
</script>

<ProblemNote problem={offered.problem} />
{#if o}
  <LiveBanner offered={o} />
  <div class="grid lg:grid-cols-[minmax(0,1fr)_22rem] gap-6">
    <div>
      <form onsubmit={submit} aria-label="The call">
        <div class="flex gap-2 mb-3">
          <label class="sr-only" for="method">Method</label><select id="method" class="select w-32 mono" bind:value={x.method}
            >{#each METHODS as method (method)}<option>{method}</option>{/each}</select
          ><label class="sr-only" for="path">Path</label><input id="path" class="input grow mono" required bind:value={x.path} /><button
            class="btn btn-primary"
            disabled={doing.busy || confirming || lacking.length > 0}
            ><Play size={15} aria-hidden="true" />{doing.busy ? 'Sending…' : 'Send'}</button
          >
        </div>
        {#if confirming}
          <div class="border-8 border-error px-4 py-3 mb-3" role="alertdialog" aria-label="Send to the live provider?">
            <p class="text-3xl font-semibold text-error uppercase">{o.environment}</p>
            <p class="mb-2"><code>{x.method} {x.path}</code> may change something at the provider, or someone sees it.</p>
            <button type="button" class="btn btn-error" onclick={() => send(true)}>Send to {o.environment}</button>
            <button type="button" class="btn" onclick={() => (confirming = false)}>Cancel</button>
          </div>
        {/if}
        <MaskedNote name={x.masked} busy={doing.busy} show={showValues} />
        {#if lacking.length > 0}<p class="text-sm text-warning mb-2">Fill in first: {lacking.join(', ')}.</p>{/if}
        {#if x.names.length > 0}<fieldset class="mb-3">
            <legend class="font-semibold">Parameters</legend>{#each x.names as name (name)}<div class="flex items-center gap-2 mb-1">
                <label class="mono w-40" for={`value-${name}`}>{name}</label><input
                  id={`value-${name}`}
                  class="input input-sm mono grow"
                  placeholder={o.placeholders[name] ?? ''}
                  value={x.values[name] ?? ''}
                  oninput={(event) => (x.values[name] = event.currentTarget.value)}
                /><span class="text-sm text-base-content/70 w-48 truncate"
                  >{x.says[name] ?? (o.placeholders[name] === undefined ? '' : 'from the connection')}</span
                >
              </div>{/each}
          </fieldset>{/if}
        <PairRows legend="Query" bind:pairs={x.query} />
        <details class="mb-3" open={x.headers.length > 0}>
          <summary class="cursor-pointer font-semibold">Headers</summary>
          <p class="text-sm text-base-content/70">The token and the API’s own headers are put in automatically.</p>
          <PairRows legend="Header" bind:pairs={x.headers} />
        </details>
        {#if x.writes || x.body !== ''}<Field id="body" label="Body"
            ><textarea id="body" class="textarea w-full mono" rows="6" bind:value={x.body}></textarea></Field
          >{/if}
      </form>
      <ProblemNote problem={doing.problem} />
      {#if answer}<h2 class="mb-1">Response</h2>
        <TriedAnswer {answer} />{/if}
      <CollectAll
        {connection}
        call={x.call}
        saved={x.unchanged}
        values={filled}
        disabled={lacking.length > 0}
        confirmed={(one) => (paging = one)}
      />
    </div>
    <div>
      <OfferedList
        offered={o}
        take={(one) => {
          x.take(one);
          paging = null;
        }}
        open={(one) => {
          x.open(one);
          paging = null;
        }}
        remove={(one) =>
          doing.run(async () => {
            await call('removeCall', { params: { ...key, call: one.name } });
            await offered.load();
          })}
      />
      <SaveCallForm saved={x.saved} busy={doing.busy} {save} />
      <CallTransfer {connection} call={x.call} load={(one) => x.load(one)} />
    </div>
  </div>
{:else if !offered.problem}<p aria-busy="true">Loading…</p>{/if}
