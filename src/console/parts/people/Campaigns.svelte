<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import type { Campaign } from '../../../api/people.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { campaignInWords, percentOf } from '../../state/people.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Form from '../../ui/Form.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** Everyone who lacks a scope of a shared connection is asked again; how far that is. */
  const { connection, scopes }: { connection: string; scopes: string[] } = $props();
  const named = $derived(connection);
  const list = new Query(() => call('listCampaigns', { params: { connection: named } }), 3_000);
  $effect(() => {
    void named;
    return list.start();
  });
  const items = $derived([...(list.value?.items ?? [])].reverse());
  const saving = new Action();
  let isAdding = $state(false);
  let name = $state('');
  let purpose = $state('');
  let times = $state(3);
  let hours = $state(72);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      const body = { name: name.trim(), purpose: purpose.trim(), times_most: times, remind_hours: hours };
      await call('addCampaign', { params: { connection }, body });
      [isAdding, name, purpose] = [false, '', ''];
      await list.load();
    });
  };
  const end = (one: Campaign) =>
    saving.run(async () => {
      await call('endCampaign', { params: { connection, campaign: one.name } });
      await list.load();
    });
</script>

<ProblemNote problem={list.problem ?? saving.problem} />
{#if isAdding}
  <Form {saving} onsubmit={submit} class="panel px-4 py-3 mb-4 max-w-2xl">
    <p class="mb-2">
      Everyone who did not grant all of <span class="mono">{scopes.join(' ')}</span> gets a link. Who granted all is not asked.
    </p>
    <Field id="campaign-name" label="Name" problem={saving.problem} path="name"
      ><input
        id="campaign-name"
        class="input w-full mono"
        required
        pattern="[a-z0-9][a-z0-9._\-]*"
        maxlength="63"
        bind:value={name}
      /></Field
    >
    <Field id="campaign-purpose" label="Purpose" help="Why they are asked again, in words for them."
      ><input id="campaign-purpose" class="input w-full" required maxlength="500" bind:value={purpose} /></Field
    >
    <Field id="campaign-times" label="Requests to one person, at most"
      ><input id="campaign-times" type="number" min="1" max="10" class="input w-28" bind:value={times} /></Field
    >
    <Field id="campaign-hours" label="Hours between two requests"
      ><input id="campaign-hours" type="number" min="1" max="2160" class="input w-28" bind:value={hours} /></Field
    >
    <button class="btn btn-primary btn-sm" disabled={saving.busy}>Begin the campaign</button>
    <button type="button" class="btn btn-sm" onclick={() => (isAdding = false)}>Cancel</button>
  </Form>
{:else}<button class="btn btn-primary btn-sm mb-3" onclick={() => (isAdding = true)}
    ><Plus size={16} aria-hidden="true" />Begin a campaign</button
  >{/if}
{#each items as one (one.name)}
  <section class="panel px-4 py-3 mb-3 max-w-3xl" aria-label={one.name}>
    <p class="flex flex-wrap items-center gap-x-4">
      <strong>{one.name}</strong><span>{one.state}</span><span class="text-base-content/70">{one.purpose}</span>
      {#if one.state === 'running'}<button class="btn btn-xs ml-auto" disabled={saving.busy} onclick={() => end(one)}>End</button>{/if}
    </p>
    <progress class="progress progress-success w-full my-2" max="100" value={percentOf(one)} aria-label={`${one.name}: granted`}></progress>
    <p class="text-sm">{campaignInWords(one)} Begun <Time at={one.created_at} />.</p>
  </section>
{:else}
  {#if list.value && !isAdding}<p>No campaigns yet. Begin one when the connection asks for a new scope, or moves to another client.</p>{/if}
{/each}
