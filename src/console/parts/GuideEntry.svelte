<script lang="ts">
  import type { Client } from '../../api/clients.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Takes what a step of the guide brings, at that step: the id, the secret, or what was ticked at the provider. */
  const { client: c, step, done }: { client: Client; step: Client['guide'][number]; done: () => unknown } = $props();
  const key = $derived({ provider: c.provider, client: c.name });
  let id = $state('');
  let secret = $state('');
  let ends = $state('');
  let accounts = $state('');
  let asIs = $state(false);
  const doing = new Action();
  /** What is entered here checks the step off, unless it brings more than that. */
  const checkedOff = $derived(step.brings.length > 1 ? c.registering.done : [...new Set([...c.registering.done, step.title])]);
  const change = (body: { registering?: object; [field: string]: unknown }) =>
    doing.run(async () => {
      const registering = { ...body.registering, done: checkedOff };
      await call('changeClient', { params: key, body: { revision: c.revision, ...body, registering } });
      await done();
    });
  const saveId = (event: SubmitEvent) => {
    event.preventDefault();
    void change({ client_id: id, take_as_is: asIs });
  };
  const saveSecret = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('addSecret', { params: key, body: { secret, ends_at: ends ? new Date(ends).toISOString() : null, take_as_is: asIs } });
      [secret, ends] = ['', ''];
      const { revision } = await call('showClient', { params: key });
      await call('changeClient', { params: key, body: { revision, registering: { done: checkedOff } } });
      await done();
    });
  };
  const saveAccounts = (event: SubmitEvent) => {
    event.preventDefault();
    void change({ reach: 'listed', listed_accounts: accounts.split(/[\s,;]+/).filter(Boolean) });
  };
  const scopes = $derived(step.values.find((one) => one.name === 'scopes')?.value.split(' ') ?? []);
  const host = $derived(step.values.find((one) => one.name === 'redirect_host')?.value);
  const takesSecret = $derived(c.method === 'client_secret_basic' || c.method === 'client_secret_post');
</script>

{#if step.brings.includes('client_id')}
  {#if c.client_id}<p class="text-sm">Entered: <code>{c.client_id}</code></p>
  {:else}<form onsubmit={saveId} class="flex flex-wrap items-end gap-2 max-w-xl my-1">
      <label class="grow text-sm"
        >From their page: {c.words.client_id ?? 'the id'}<input
          class="input input-sm w-full mono"
          required
          autocomplete="off"
          bind:value={id}
        /></label
      ><button class="btn btn-sm" disabled={doing.busy}>Save id</button>
    </form>{/if}
{/if}
{#if step.brings.includes('client_secret') && takesSecret}
  {#if c.secret}<p class="text-sm">Entered and sealed.</p>
  {:else}<form onsubmit={saveSecret} class="flex flex-wrap items-end gap-2 max-w-xl my-1" autocomplete="off">
      <label class="grow text-sm"
        >From their page: {c.words.client_secret ?? 'the secret'}<input
          type="password"
          class="input input-sm w-full mono"
          required
          autocomplete="new-password"
          bind:value={secret}
        /></label
      ><label class="text-sm flex flex-col">Expires on<input type="date" class="input input-sm w-40" bind:value={ends} /></label><button
        class="btn btn-sm"
        disabled={doing.busy}>Save secret</button
      >
    </form>{/if}
{/if}
{#if step.missing.includes('listed_accounts')}
  <form onsubmit={saveAccounts} class="flex flex-wrap items-end gap-2 max-w-xl my-1">
    <label class="grow text-sm"
      >Who will consent: the account to list<input class="input input-sm w-full" required bind:value={accounts} /></label
    ><button class="btn btn-sm" disabled={doing.busy}>Save accounts</button>
  </form>
{/if}
{#if scopes.length > 0}
  {#if scopes.every((scope) => c.registered_scopes.includes(scope))}<p class="text-sm">Marked as registered.</p>
  {:else}<button
      type="button"
      class="btn btn-sm my-1"
      disabled={doing.busy}
      onclick={() => change({ registered_scopes: [...new Set([...c.registered_scopes, ...scopes])] })}>Mark as registered</button
    >{/if}
{/if}
{#if host}
  {#if c.registering.domains_there?.includes(host)}<p class="text-sm">Marked as listed.</p>
  {:else}<button
      type="button"
      class="btn btn-sm my-1"
      disabled={doing.busy}
      onclick={() => change({ registering: { domains_there: [...(c.registering.domains_there ?? []), host] } })}>Mark as listed</button
    >{/if}
{/if}
<ProblemNote problem={doing.problem} />
{#if doing.problem?.places?.some((place) => place.kind === 'unlikely')}<label class="flex items-center gap-2 mb-2"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={asIs} />It is right: take it as it is</label
  >{/if}
