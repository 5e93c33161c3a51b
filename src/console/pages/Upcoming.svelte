<script lang="ts">
  import type { UpcomingItem } from '../../api/upcoming.ts';
  import { CERTAINTY_WORDS } from '../../api/vocabulary.ts';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import Calendars from '../parts/upcoming/Calendars.svelte';
  import Timeline from '../parts/upcoming/Timeline.svelte';
  import { Query } from '../state/query.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';
  import { UPCOMING_COLUMNS, upcomingTable, urgencyOf } from '../state/upcoming.ts';
  import Table from '../ui/Table.svelte';
  import Time from '../ui/Time.svelte';

  let days = $state(90);
  let who = $state<UpcomingItem['who'] | ''>('');
  let label = $state('');
  const isLabel = $derived(/^[a-z0-9][a-z0-9._-]{0,62}$/.test(label));
  const list = new Query(() => call('listUpcoming', { query: { days, ...(who ? { who } : {}), ...(isLabel ? { label } : {}) } }), 10_000);
  $effect(() => {
    void [days, who, isLabel && label];
    return list.start();
  });
  const table = upcomingTable();
  const items = $derived(list.value?.items ?? []);
  const now = $derived(Date.parse(list.value?.now ?? new Date().toISOString()));
  const idOf = (one: UpcomingItem) => one.key;
  const stops = (count: number) => (count === 0 ? '–' : counted(count, 'connection'));
  const TONES = { late: 'text-error font-semibold', now: 'text-warning font-semibold', later: '' };
</script>

{#snippet cell(one: UpcomingItem, key: string)}
  {#if key === 'at'}<span class={TONES[urgencyOf(one, now)]}><Time at={one.at} /></span>
    <div class="text-sm text-base-content/70">{CERTAINTY_WORDS[one.certainty]}</div>
  {:else if key === 'what'}<a class="link" href={`#${one.page}`}>{one.what}</a>
  {:else if key === 'act'}<Time at={one.act_by} />
  {:else if key === 'breaks'}{stops(one.breaks.connections)}{#if one.breaks.callers.length > 0}<div class="text-sm text-base-content/70">
        used by {one.breaks.callers.slice(0, 3).join(', ')}
      </div>{/if}
  {:else if key === 'who'}{one.who}
  {:else}{one.remedy}
    <div class="text-sm mono text-base-content/70">{one.command}</div>{/if}
{/snippet}

<Title title="Upcoming">
  <label class="sr-only" for="upcoming-who">Who acts</label><select id="upcoming-who" class="select select-sm w-36" bind:value={who}
    ><option value="">everyone</option><option>operator</option><option>person</option><option>provider</option></select
  >
  <label class="sr-only" for="upcoming-label">Label of connections</label><input
    id="upcoming-label"
    class="input input-sm w-32 mono"
    placeholder="label"
    bind:value={label}
  />
  <label class="sr-only" for="upcoming-days">Days ahead</label><select id="upcoming-days" class="select select-sm w-32" bind:value={days}
    ><option value={30}>30 days</option><option value={90}>90 days</option><option value={365}>365 days</option></select
  >
  <a class="btn btn-sm" href="#/rehearsals">Rehearse</a>
</Title>
<ProblemNote problem={list.problem} />
{#if list.value && items.length === 0 && (who !== '' || isLabel)}
  <p>Nothing in the next {days} days matches the filter.</p>
{:else if list.value && items.length === 0}
  <p>Nothing is known to stop in the next {days} days. Enter the dates that providers show: of secrets, certificates and approvals.</p>
{:else if list.value}
  <Timeline {items} {now} {days} />
  <Table caption="Upcoming" columns={UPCOMING_COLUMNS} rows={items} state={table} {idOf} {cell} />
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
<Calendars />
