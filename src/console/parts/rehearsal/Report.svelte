<script lang="ts">
  import type { RehearsalReport } from '../../../api/rehearsals.ts';
  import { NOTICE_SEVERITIES } from '../../../api/vocabulary.ts';
  import VocabularyMark from '../VocabularyMark.svelte';
  import Lanes from './Lanes.svelte';

  /** The report of a rehearsal: pictures first, then the tables that it is made of. */
  const { report }: { report: RehearsalReport } = $props();
  const moment = (at: number) => new Date(at).toLocaleString('en-US', { dateStyle: 'medium', timeStyle: 'short' });
  const minutes = (ms: number) =>
    ms < 7_200_000
      ? `${Math.round(ms / 60_000)} min`
      : ms < 172_800_000
        ? `${Math.round(ms / 3_600_000)} h`
        : `${Math.round(ms / 86_400_000)} days`;
  const refused = (of: { says: string; from: number; to: number }[]) =>
    of.map((one) => `${one.says}, ${minutes(one.to - one.from)}`).join('; ') || 'none';
  const sentOf = (one: RehearsalReport['notices'][number]) =>
    one.sent.map((message) => `${message.channel}: ${message.event}`).join(', ') || 'in the console only';
</script>

<Lanes {report} />
{#if report.events.length > 0}
  <h2>What happened</h2>
  <ul class="mb-4">
    {#each report.events as event, at (at)}<li>
        <span class="tabular-nums text-base-content/70">{moment(event.at)}</span>
        {event.says}
      </li>{/each}
  </ul>
{/if}
{#if report.forecast.length > 0}
  <h2>Forecast at the start</h2>
  <table class="list-table mb-4">
    <caption class="sr-only">Forecast at the start, and what came of it</caption>
    <thead><tr><th class="lg:w-56">Date</th><th>What</th><th>Outcome</th></tr></thead>
    <tbody>
      {#each report.forecast as one (one.key)}<tr
          ><td data-label="Date">{moment(one.at)}</td><td data-label="What">{one.what}</td><td data-label="Outcome"
            >{one.outcome.replace('_', ' ')}</td
          ></tr
        >{/each}
    </tbody>
  </table>
{/if}
{#if report.callers.length > 0}
  <h2>What callers saw</h2>
  <table class="list-table mb-4">
    <caption class="sr-only">What callers saw</caption>
    <thead><tr><th>Caller</th><th>Connection</th><th>Tokens</th><th>API calls</th><th>Refused</th></tr></thead>
    <tbody>
      {#each report.callers as one (`${one.caller} ${one.connection}`)}<tr
          ><td data-label="Caller" class="font-semibold">{one.caller}</td><td data-label="Connection">{one.connection}</td><td
            data-label="Tokens"
            class="tabular-nums whitespace-nowrap">{one.good} of {one.asked}</td
          ><td data-label="API calls" class="tabular-nums whitespace-nowrap"
            >{one.calls ? `${one.calls.good} of ${one.calls.made}` : '–'}</td
          ><td data-label="Refused">{refused([...one.failures, ...(one.calls?.failures ?? [])])}</td></tr
        >{/each}
    </tbody>
  </table>
{/if}
{#if report.jobs.length > 0}
  <h2>Jobs</h2>
  <table class="list-table mb-4">
    <caption class="sr-only">Jobs</caption>
    <thead><tr><th>Job</th><th>Runs</th><th>Complete</th><th>Problems</th></tr></thead>
    <tbody>
      {#each report.jobs as one (one.job)}<tr
          ><td data-label="Job" class="font-semibold">{one.job}</td><td data-label="Runs" class="tabular-nums">{one.runs}</td><td
            data-label="Complete"
            class="tabular-nums">{one.complete}</td
          ><td data-label="Problems">{one.problems[0] ? `${one.problems.length}, first: ${one.problems[0].says}` : 'none'}</td></tr
        >{/each}
    </tbody>
  </table>
{/if}
{#if report.notices.length > 0}
  <h2>Notices</h2>
  <table class="list-table mb-4">
    <caption class="sr-only">Notices that would have been opened</caption>
    <thead
      ><tr><th class="lg:w-36">Severity</th><th>Notice</th><th class="lg:w-44">Opened</th><th class="lg:w-44">Closed</th><th>Sent</th></tr
      ></thead
    >
    <tbody>
      {#each report.notices as one, at (at)}<tr
          ><td data-label="Severity"><VocabularyMark word={NOTICE_SEVERITIES[one.severity]} /></td><td
            data-label="Notice"
            class="font-semibold">{one.title}</td
          ><td data-label="Opened">{moment(one.openedAt)}</td><td data-label="Closed"
            >{one.closedAt === null ? 'still open' : moment(one.closedAt)}</td
          ><td data-label="Sent">{sentOf(one)}</td></tr
        >{/each}
    </tbody>
  </table>
{/if}
{#if report.leftOut.length > 0}
  <h2>Not rehearsed</h2>
  <ul class="mb-4">
    {#each report.leftOut as one, at (at)}<li><strong>{one.what}</strong>: {one.why}</li>{/each}
  </ul>
{/if}
