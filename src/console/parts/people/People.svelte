<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import type { Person } from '../../../api/people.ts';
  import { STATES } from '../../../api/vocabulary.ts';
  import { Query } from '../../state/query.svelte.ts';
  import { causesInWords, PERSON_COLUMNS, personTable, shares } from '../../state/people.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Cut from '../../ui/Cut.svelte';
  import Table from '../../ui/Table.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import StateMark from '../StateMark.svelte';
  import InviteForm from './InviteForm.svelte';

  /** The people of a shared connection: how many in which state, and each of them. */
  const { connection }: { connection: string } = $props();
  const PAGE = 100;
  const COLORS = { good: 'bg-success', warning: 'bg-warning', bad: 'bg-error', quiet: 'bg-base-300' };
  const STATES_OFFERED = ['working', 'degraded', 'action_needed', 'not_yet_consented', 'revoked', 'paused'] as const;
  let search = $state('');
  let wanted = $state<Person['state'] | ''>('');
  let limit = $state(PAGE);
  let isInviting = $state(false);
  const named = $derived(connection);
  const list = new Query(
    () =>
      call('listPeople', {
        params: { connection: named },
        query: { limit, ...(search.trim() ? { search: search.trim() } : {}), ...(wanted ? { state: wanted } : {}) },
      }),
    3_000,
  );
  $effect(() => {
    void [named, search, wanted, limit];
    return list.start();
  });
  const table = personTable();
  const items = $derived(list.value?.items ?? []);
  const bars = $derived(shares(list.value?.counts ?? []));
  const all = $derived(bars.reduce((sum, one) => sum + one.count, 0));
  const causes = $derived(causesInWords(list.value?.counts ?? []));
  const idOf = (one: Person) => one.handle;
</script>

{#snippet cell(one: Person, key: string)}
  {#if key === 'person'}<a class="link" href={`#/connections/${one.handle}`}><Cut text={one.name ?? one.person} /></a>{#if one.name}<div
        class="text-sm font-normal text-base-content/70"
      >
        <Cut text={one.person} />
      </div>{/if}
  {:else if key === 'state'}<StateMark state={one.state} />{#if one.cause && one.state === 'action_needed'}<div class="text-sm max-w-64">
        {one.cause}
      </div>{/if}
  {:else if key === 'account'}<Cut text={one.account ?? '–'} />
  {:else if key === 'missing'}<span class="mono text-sm">{one.missing.join(' ') || '–'}</span>
  {:else}<Time at={one.connected_at} none="not yet" />{/if}
{/snippet}

<div class="flex flex-wrap items-center gap-3 mb-3">
  <button class="btn btn-primary btn-sm" onclick={() => (isInviting = !isInviting)} aria-expanded={isInviting}
    ><Plus size={16} aria-hidden="true" />Invite a person</button
  >
  {#if all > 0}
    <label class="sr-only" for="people-search">Search people</label><input
      id="people-search"
      type="search"
      class="input input-sm w-64"
      placeholder="Account, key, name or state"
      bind:value={search}
    />
    <label class="sr-only" for="people-state">State</label><select id="people-state" class="select select-sm w-44" bind:value={wanted}
      ><option value="">All states</option>{#each STATES_OFFERED as state (state)}<option value={state}>{STATES[state].label}</option
        >{/each}</select
    >
  {/if}
</div>
{#if isInviting}<InviteForm {connection} />{/if}
<ProblemNote problem={list.problem} />
{#if bars.length > 0}
  <div class="flex h-3 w-full overflow-hidden rounded mb-1" aria-hidden="true">
    {#each bars as bar (bar.state)}<span class={COLORS[STATES[bar.state].tone]} style:width={`${bar.percent}%`}></span>{/each}
  </div>
  <p class="flex flex-wrap gap-x-4 text-sm mb-3">
    <strong>{all.toLocaleString('en-US')} people</strong>{#each bars as bar (bar.state)}<span
        >{bar.count.toLocaleString('en-US')} {bar.label}</span
      >{/each}
  </p>
{/if}
{#if causes}<p class="text-sm mb-3"><strong>Action needed:</strong> {causes}. Each person was sent the link to fix it.</p>{/if}
{#if list.value && all === 0}
  <p>
    No people yet. Invite one, or let the application do it with its own key: <code
      >POST /api/v1/own/connections/{connection}/invitations</code
    >.
  </p>
{:else if list.value && items.length === 0}<p class="py-6 text-base-content/70">No person matches.</p>
{:else if list.value}
  <Table caption="People" columns={PERSON_COLUMNS} rows={items} state={table} {idOf} {cell} />
  {#if items.length < list.value.total && limit < 500}<button class="btn btn-sm mt-2" onclick={() => (limit += PAGE)}>Show more</button>
  {:else if items.length < list.value.total}<p class="mt-2">The first {limit} are listed. Use the search to narrow them.</p>{/if}
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
