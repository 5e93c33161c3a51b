<script lang="ts">
  import { onMount } from 'svelte';
  import type { Job } from '../../api/jobs.ts';
  import { COMPLETENESS_WORDS, RUN_WORDS } from '../../api/vocabulary.ts';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import VocabularyMark from '../parts/VocabularyMark.svelte';
  import { JOB_COLUMNS, jobTable } from '../state/job-table.ts';
  import { Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Table from '../ui/Table.svelte';
  import Time from '../ui/Time.svelte';

  const list = new Query(() => call('listJobs'), 2_000);
  onMount(() => list.start());
  const table = jobTable();
  const items = $derived(list.value?.items ?? []);
  const idOf = (job: Job) => job.name;
</script>

{#snippet cell(job: Job, key: string)}
  {#if key === 'name'}<a class="link" href={`#/jobs/${job.name}`}>{job.name}</a>{#if job.settings.title}<div
        class="text-sm font-normal text-base-content/70"
      >
        {job.settings.title}
      </div>{/if}
  {:else if key === 'connection'}<a class="link" href={`#/connections/${job.connection}`}>{job.connection}</a>
  {:else if key === 'schedule'}{job.settings.enabled ? job.schedule_says : 'off'}
  {:else if key === 'next'}<Time at={job.next_run_at} />
  {:else if key === 'state'}{#if job.last}<VocabularyMark word={RUN_WORDS[job.last.state]} />{:else}no run yet{/if}
  {:else if key === 'verdict'}{#if job.last?.completeness}<VocabularyMark
        word={COMPLETENESS_WORDS[job.last.completeness.verdict]}
      />{:else}–{/if}
  {:else if key === 'records'}{job.latest ? job.latest.records.toLocaleString('en-US') : '–'}
  {:else}<Time at={job.latest?.at ?? null} none="never" />{/if}
{/snippet}

<Title title="Jobs" />
<ProblemNote problem={list.problem} />
{#if list.value && items.length === 0}
  <p>
    No jobs yet. A job collects every record of a list on a schedule, and serves the latest complete result at one address. Begin with a
    connection: open
    <a class="link link-primary" href="#/connections">Connections</a>, choose one, then Test call and Collect all pages.
  </p>
{:else if list.value}
  <Table caption="Jobs" columns={JOB_COLUMNS} rows={items} state={table} {idOf} {cell} />
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
