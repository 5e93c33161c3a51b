<script lang="ts">
  import { NOTICE_EVENT_WORDS, NOTICE_SEVERITIES } from '../../api/vocabulary.ts';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import VocabularyMark from '../parts/VocabularyMark.svelte';
  import { clock } from '../state/clock.svelte.ts';
  import { Action, Query } from '../state/query.svelte.ts';
  import { SNOOZES, snoozedUntil } from '../state/notices.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import Time from '../ui/Time.svelte';

  const { params }: { params: { notice: string } } = $props();
  const id = $derived(params.notice);
  const loaded = new Query(() => call('showNotice', { params: { notice: id } }), 3_000);
  $effect(() => {
    void id;
    return loaded.start();
  });
  const doing = new Action();
  const change = (work: () => Promise<unknown>) =>
    doing.run(async () => {
      await work();
      await loaded.load();
    });
  const of = $derived({ params: { notice: id } });
  const me = $derived(typeof session.who === 'object' && session.who ? session.who.operator : '');
  const acknowledge = () => change(() => call('acknowledgeNotice', of));
  const assign = (to: string | null) => change(() => call('assignNotice', { ...of, body: { to } }));
  const snooze = (days: number) => change(() => call('snoozeNotice', { ...of, body: { until: snoozedUntil(days, clock.now) } }));
  const n = $derived(loaded.value);
</script>

<Title title={n?.title ?? 'Notice'} up={{ href: '#/notices', name: 'Notices' }}>
  {#if n?.state === 'open'}
    <a class="btn btn-sm btn-primary" href={`#${n.page}`}>Fix it</a>
    <button class="btn btn-sm" disabled={doing.busy || n.acknowledged_by !== null} onclick={acknowledge}>Acknowledge</button>
    {#if n.assigned_to === me}<button class="btn btn-sm" disabled={doing.busy} onclick={() => assign(null)}>Hand it back</button>
    {:else}<button class="btn btn-sm" disabled={doing.busy} onclick={() => assign(me)}>Assign to me</button>{/if}
    {#each SNOOZES as [label, days] (days)}<button class="btn btn-sm" disabled={doing.busy} onclick={() => snooze(days)}
        >Snooze {label}</button
      >{/each}
  {/if}
</Title>
<ProblemNote problem={loaded.problem ?? doing.problem} />
{#if n}
  <dl class="facts mb-6">
    <dt>Severity</dt>
    <dd><VocabularyMark word={NOTICE_SEVERITIES[n.severity]} /></dd>
    <dt>State</dt>
    <dd>
      {n.state}, since <Time at={n.closed_at ?? n.opened_at} />{#if n.returns > 0}; it came back {n.returns} times{/if}
    </dd>
    {#if n.evidence}<dt>Evidence</dt>
      <dd>{n.evidence}</dd>{/if}
    <dt>What to do</dt>
    <dd>{n.remedy}</dd>
    {#if n.command}<dt>Command</dt>
      <dd><Copy value={n.command} label="the command" /></dd>{/if}
    {#if n.due_at}<dt>Date</dt>
      <dd><Time at={n.due_at} /></dd>{/if}
    {#if n.connections > 0}<dt>Connections</dt>
      <dd>{n.connections}</dd>{/if}
    {#if n.labels.length > 0}<dt>Labels</dt>
      <dd>{n.labels.join(', ')}</dd>{/if}
    <dt>Assigned to</dt>
    <dd>{n.assigned_to ?? 'nobody'}</dd>
    {#if n.acknowledged_by}<dt>Acknowledged</dt>
      <dd>by {n.acknowledged_by}, <Time at={n.acknowledged_at} /></dd>{/if}
    {#if n.snoozed_until}<dt>Snoozed until</dt>
      <dd><Time at={n.snoozed_until} /></dd>{/if}
  </dl>
  <h2 class="mb-1">Sent to</h2>
  {#if n.deliveries.length === 0}<p>
      It was not sent to any channel.
      <a class="link" href="#/settings/channels">Add a channel</a> to get notices by mail, webhook or a program.
    </p>
  {:else}
    <table class="list-table">
      <caption class="sr-only">Deliveries</caption>
      <thead><tr><th>Channel</th><th>News</th><th>State</th><th>Due</th><th>Note</th></tr></thead>
      <tbody>
        {#each n.deliveries as one, at (at)}
          <tr>
            <td data-label="Channel">{one.channel}</td><td data-label="News">{NOTICE_EVENT_WORDS[one.event]}</td><td data-label="State"
              >{one.state}</td
            ><td data-label="Due"><Time at={one.due_at} /></td><td data-label="Note">{one.says}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
{:else if !loaded.problem}<p aria-busy="true">Loading…</p>{/if}
