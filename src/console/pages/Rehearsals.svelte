<script lang="ts">
  import { push } from 'svelte-spa-router';
  import { SCENARIO_WORDS, SCENARIOS, type Scenario } from '../../api/choices.ts';
  import type { Rehearsal } from '../../api/rehearsals.ts';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Form from '../ui/Form.svelte';
  import Table from '../ui/Table.svelte';
  import { type Column, TableState } from '../ui/table.svelte.ts';
  import Time from '../ui/Time.svelte';

  const list = new Query(() => call('listRehearsals'), 2_000);
  const providers = new Query(() => call('listProviders'));
  $effect(() => list.start());
  $effect(() => providers.start());
  let scenario = $state<Scenario>('provider_down');
  let hits = $state('');
  let acts = $state(false);
  const starting = new Action();
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void starting.run(async () => {
      const act = scenario === 'ninety_days' && acts;
      const { id } = await call('startRehearsal', { body: { scenario, act, hits: scenario === 'ninety_days' ? null : hits || null } });
      await push(`/rehearsals/${id}`);
    });
  };
  const COLUMNS: readonly Column<Rehearsal>[] = [
    { key: 'scenario', label: 'Scenario', sortBy: (one) => one.title, class: 'font-semibold' },
    { key: 'state', label: 'State', sortBy: (one) => one.state },
    { key: 'started', label: 'Started', sortBy: (one) => one.started_at, class: 'lg:w-36' },
    { key: 'by', label: 'By', sortBy: (one) => one.started_by },
    { key: 'outcome', label: 'Outcome' },
  ];
  const table = new TableState(COLUMNS, (one: Rehearsal) => one.id);
</script>

{#snippet cell(one: Rehearsal, key: string)}
  {#if key === 'scenario'}<a class="link" href={`#/rehearsals/${one.id}`}>{one.title}</a>
  {:else if key === 'state'}{one.state === 'running' ? `running, ${one.percent} %` : one.state}
  {:else if key === 'started'}<Time at={one.started_at} />
  {:else if key === 'by'}{one.started_by}
  {:else}{one.summary[0] ?? one.doing}{/if}
{/snippet}

<Title title="Rehearsals" up={{ href: '#/upcoming', name: 'Upcoming' }} />
<p class="mb-3 text-base-content/70 max-w-3xl">
  A rehearsal plays a bad day with your own definitions and settings, on simulated providers, in compressed time. It uses no secret and
  calls nothing real. The report shows what callers, jobs and people would have seen, and which notices would have been sent.
</p>
<ProblemNote problem={starting.problem} />
<Form saving={starting} onsubmit={submit} class="mb-6">
  <fieldset class="grid gap-2 md:grid-cols-2 xl:grid-cols-3 mb-3">
    <legend class="font-semibold mb-2">Scenario</legend>
    {#each SCENARIOS as name (name)}
      <label class={['flex gap-3 border p-3 cursor-pointer', name === scenario ? 'border-primary bg-base-200' : 'border-base-300']}>
        <input class="radio radio-sm mt-0.5" type="radio" name="scenario" value={name} bind:group={scenario} />
        <span
          ><span class="font-semibold">{SCENARIO_WORDS[name].title}</span><br /><span class="text-sm">{SCENARIO_WORDS[name].plays}</span
          ></span
        >
      </label>
    {/each}
  </fieldset>
  <div class="flex flex-wrap items-end gap-4">
    {#if scenario === 'ninety_days'}
      <label class="flex items-center gap-2"
        ><input class="checkbox checkbox-sm" type="checkbox" bind:checked={acts} />Someone acts in time on each entry of Upcoming</label
      >
    {:else}
      <label class="flex flex-col text-sm"
        >Where it goes wrong<select class="select select-sm w-64" bind:value={hits}
          ><option value="">the provider with most connections</option>
          {#each providers.value?.items ?? [] as one (one.name)}<option value={one.name}>{one.title}</option>{/each}
        </select></label
      >
    {/if}
    <button class="btn btn-primary btn-sm" disabled={starting.busy}>Start rehearsal</button>
  </div>
</Form>
<ProblemNote problem={list.problem} />
{#if list.value && list.value.items.length > 0}
  <h2>Earlier rehearsals</h2>
  <Table caption="Rehearsals" columns={COLUMNS} rows={list.value.items} state={table} idOf={(one) => one.id} {cell} />
{:else if list.value}<p>Nothing has been rehearsed yet. Choose a scenario above.</p>{/if}
