<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { onMount } from 'svelte';
  import { push, router } from 'svelte-spa-router';
  import type { Connection } from '../../api/connections.ts';
  import Added from '../parts/connection/Added.svelte';
  import OperationChoice from '../parts/OperationChoice.svelte';
  import Placeholders from '../parts/Placeholders.svelte';
  import Field from '../ui/Field.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';

  const clients = new Query(() => call('listClients'));
  onMount(() => clients.start());
  const asked = new URLSearchParams(router.querystring ?? '').get('client');
  let chosen = $state(asked ?? '');
  let name = $state('');
  let account = $state('');
  let more = $state('');
  let unlisted = $state(false);
  let ticked = $state<string[]>([]);
  let operations = $state<string[]>([]);
  let values = $state<Record<string, string>>({});
  let added = $state.raw<Connection | null>(null);
  let inName = $state(false);
  let shared = $state(false);
  const saving = new Action();
  const items = $derived(clients.value?.items ?? []);
  const client = $derived(items.find((one) => `${one.provider}/${one.name}` === chosen) ?? null);
  const provider = new Query(async () => {
    const found = await call('showProvider', { params: { provider: chosen.split('/')[0] ?? '' } });
    ticked = found.definition.scopes.filter((scope) => scope.preset).map((scope) => scope.name);
    return found;
  });
  $effect(() => {
    if (!chosen && items[0]) chosen = `${items[0].provider}/${items[0].name}`;
  });
  $effect(() => (chosen ? provider.start() : undefined));
  const forItself = $derived(client?.type === 'service_account');
  const definition = $derived(provider.value?.definition ?? null);
  /** A service account may ask in the name of an account, where the provider knows signed assertions. */
  const mayAsk = $derived(
    forItself && (definition?.server.grant_types_supported.includes('urn:ietf:params:oauth:grant-type:jwt-bearer') ?? false),
  );
  const alone = $derived(new Set((definition?.identity?.needs ?? []).filter(() => !forItself)));
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      if (!client) return;
      const scopes = [...ticked, ...more.split(/\s+/).filter(Boolean)];
      const grant = inName ? { grant_type: 'jwt_bearer' as const } : {};
      const saved = await call('addConnection', {
        body: {
          ...grant,
          shared,
          name: name.trim(),
          provider: client.provider,
          client: client.name,
          scopes,
          operations: $state.snapshot(operations),
          placeholders: $state.snapshot(values),
          expected_account: account.trim() || null,
          allow_unlisted_scopes: unlisted,
        },
      });
      if (saved.shared) return push(`/connections/${saved.name}`);
      added = saved;
    });
  };
</script>

<Title title="Open a connection" up={{ href: '#/connections', name: 'Connections' }} />
<ProblemNote problem={clients.problem} />
{#if clients.value && items.length === 0}
  <p>
    A connection needs a client: our registration at a provider. <a class="link link-primary" href="#/providers">Add a client first</a>.
  </p>
{:else if added}
  <Added {added} />
{:else if clients.value}
  <Form {saving} onsubmit={submit} class="max-w-2xl">
    <Field id="client" label="Client">
      <select id="client" class="select w-full" bind:value={chosen}
        >{#each items as one (`${one.provider}/${one.name}`)}<option value={`${one.provider}/${one.name}`}
            >{one.provider_title} / {one.name} ({one.environment}{one.rehearsal_port === null ? '' : ', rehearsal'})</option
          >{/each}</select
      >
    </Field>
    {#if client && client.missing.length > 0}<p class="mb-3">
        <StateMark state={client.state} />
        {client.cause}
        <a class="link link-primary" href={`#/providers/${client.provider}/clients/${client.name}`}>Complete the client first</a>.
      </p>{/if}
    <Field
      id="name"
      problem={saving.problem}
      path="name"
      label="Name"
      help="Integrations use it; it can be the name of the job, such as sailings."
      ><input id="name" class="input w-full mono" required pattern="[a-z0-9][a-z0-9._\-]*" maxlength="63" bind:value={name} /></Field
    >
    {#if definition && client}{#key chosen}
        <Placeholders {definition} level="connection" environment={client.environment} others={client.placeholders} bind:values />
        <OperationChoice {definition} client={client.name} bind:chosen={operations} scopes={(needed) => (ticked = needed)} />
      {/key}{/if}
    <fieldset class="mb-3">
      <legend class="font-semibold mb-1">Scopes to ask for</legend>
      {#each provider.value?.definition.scopes ?? [] as scope (scope.name)}
        <label class="flex items-baseline gap-2 py-0.5"
          ><input type="checkbox" class="checkbox checkbox-sm self-center" value={scope.name} bind:group={ticked} /><code
            class="w-40 shrink-0">{scope.name}</code
          ><span
            >{scope.says}{#if alone.has(scope.name) && !ticked.includes(scope.name)}
              <em class="text-base-content/70">requested automatically, to read who consented</em>{/if}</span
          ><span class="ml-auto text-sm text-base-content/70">{scope.power}</span></label
        >
      {/each}
    </fieldset>
    <Field id="more" label="Other scopes" help="Only if the provider knows more than the definition lists; separated by spaces."
      ><input id="more" class="input w-full mono" bind:value={more} /></Field
    >
    {#if more.trim()}<label class="flex items-center gap-2 mb-3"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={unlisted} />Send them as they are, though the definition does not
        list them</label
      >{/if}
    {#if mayAsk}<label class="flex items-center gap-2 mb-2"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={inName} />In the name of an account (signed assertion)</label
      >{/if}
    {#if inName}<Field id="account" label="In the name of" help="The account for which the service account acts, as the provider names it."
        ><input id="account" class="input w-full" required bind:value={account} /></Field
      >{/if}
    {#if !forItself}<label class="flex items-center gap-2 mb-2"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={shared} />Shared: each person connects their own account</label
      >{/if}
    {#if !forItself && !shared}<Field
        id="account"
        label="Expected account"
        help="Optional. If another account agrees, its tokens are not used."
        ><input id="account" class="input w-full" bind:value={account} /></Field
      >{/if}
    <ProblemNote problem={saving.problem} />
    <button class="btn btn-primary" disabled={saving.busy || !client}>Add the connection</button>
  </Form>
{:else if !clients.problem}<p aria-busy="true">Loading…</p>{/if}
