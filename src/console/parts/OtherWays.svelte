<script lang="ts">
  import { push } from 'svelte-spa-router';
  import type { Client } from '../../api/clients.ts';
  import type { Connection } from '../../api/connections.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Reconnect from './Reconnect.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Every other way to tokens: by hand, on another device, from an old script, as a key, through another client, beside those in use. */
  const { connection: c, done }: { connection: Connection; done: () => unknown } = $props();
  let token = $state('');
  let key = $state('');
  let other = $state('');
  const doing = new Action();
  const personal = $derived(c.grant_type === 'authorization_code');
  const clients = new Query(() => call('listClients'));
  const others = $derived((clients.value?.items ?? []).filter((one: Client) => one.provider === c.provider && one.name !== c.client));
  const importToken = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      const started = await call('importToken', { params: { connection: c.name }, body: { refresh_token: token.trim() } });
      token = '';
      await push(`/consents/${started.id}`);
    });
  };
  const setKey = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('setKey', { params: { connection: c.name }, body: { key: key.trim() } });
      key = '';
      await done();
    });
  };
  const usual = $derived(c.ways.includes('redirect') ? undefined : c.ways.includes('pasted') ? ('pasted' as const) : undefined);
</script>

{#if personal || c.takes_key || c.consented_at !== null}<details
    class="panel px-4 py-2 mb-6 max-w-4xl"
    ontoggle={() => clients.value ?? clients.load()}
  >
    <summary class="cursor-pointer font-semibold">Other ways to tokens</summary>
    <div class="flex flex-col gap-3 mt-2">
      {#if c.ways.includes('pasted') && c.ways[0] !== 'pasted'}<div class="flex flex-wrap items-baseline gap-2">
          <Reconnect connection={c.name} label="Paste the answer by hand" way="pasted" strong={false} /><span
            >where the browser’s way back does not reach this service</span
          >
        </div>{/if}
      {#if c.ways.includes('loopback')}<p>
          <code>rk connection open {c.name}</code> receives the answer on your own machine automatically.
        </p>{/if}
      {#if c.ways.includes('device') && c.ways[0] !== 'device'}<div class="flex flex-wrap items-baseline gap-2">
          <Reconnect connection={c.name} label="Enter a code on another device" way="device" strong={false} /><span
            >nothing has to come back to a browser</span
          >
        </div>{/if}
      {#if c.consented_at !== null && c.ways.length > 0}<div class="flex flex-wrap items-baseline gap-2">
          <Reconnect connection={c.name} label="Prepare on standby" way={usual} prepare strong={false} /><span
            >new tokens are kept active; a switch uses them</span
          >
        </div>{/if}
      {#if others.length > 0}
        <div class="flex flex-wrap items-baseline gap-2">
          <label
            >Move to another client <select class="select select-sm w-56" bind:value={other}
              ><option value="">choose…</option>{#each others as one (one.name)}<option value={one.name}
                  >{one.name} ({one.environment}{one.rehearsal_port === null ? '' : ', rehearsal'})</option
                >{/each}</select
            ></label
          >{#if other}<Reconnect connection={c.name} label={`Agree through ${other}`} client={other} strong={false} />{/if}<span
            class="text-base-content/70">name, callers and history stay; what is in use stays until the new tokens are verified</span
          >
        </div>
      {/if}
      {#if personal}
        <form onsubmit={importToken} class="flex flex-wrap items-end gap-2">
          <label class="grow"
            >A refresh token from an old script or console<input
              class="input input-sm w-full mono"
              type="password"
              autocomplete="off"
              bind:value={token}
            /></label
          ><button class="btn btn-sm" disabled={doing.busy || !token.trim()}>Take it over</button><span
            class="basis-full text-sm text-base-content/70"
            >It is stored first, then verified by one renewal. Stop the old script first: where the provider replaces refresh tokens, two
            that renew end each other.</span
          >
        </form>
      {/if}
      {#if c.takes_key}
        <form onsubmit={setKey} class="flex flex-wrap items-end gap-2">
          <label class="grow"
            >The static key that is used today<input
              class="input input-sm w-full mono"
              type="password"
              autocomplete="off"
              bind:value={key}
            /></label
          ><button class="btn btn-sm" disabled={doing.busy || !key.trim()}>Give the key</button><span
            class="basis-full text-sm text-base-content/70"
            >{c.consented_at === null
              ? 'It is used until you switch to OAuth behind the same name.'
              : 'It waits beside what is in use.'}</span
          >
        </form>
      {/if}
      <ProblemNote problem={doing.problem} />
    </div>
  </details>{/if}
