<script lang="ts">
  import type { Job } from '../../../api/jobs.ts';
  import Copy from '../../ui/Copy.svelte';
  import Time from '../../ui/Time.svelte';

  /** What a job collects, when, and where its result is fetched. */
  const { job }: { job: Job } = $props();
</script>

<dl class="facts mb-4">
  {#if job.settings.title}<dt>Description</dt>
    <dd>{job.settings.title}</dd>{/if}
  <dt>Call</dt>
  <dd>
    <code>{job.settings.saved ?? `${job.settings.call?.method} ${job.settings.call?.path}`}</code> through
    <a class="link" href={`#/connections/${job.connection}`}>{job.connection}</a>, {job.paging_says}
  </dd>
  <dt>Schedule</dt>
  <dd>
    {job.settings.enabled ? job.schedule_says : 'off'}{#if job.next_run_at}, next run <Time at={job.next_run_at} />{/if}
  </dd>
  <dt>Result</dt>
  <dd>
    {#if job.latest}{job.latest.records.toLocaleString('en-US')} records, collected <Time at={job.latest.at} />{:else}none yet{/if}
  </dd>
  <dt>Address</dt>
  <dd>
    <Copy value={job.data_url} label="the address of the result" />
    <span class="text-sm text-base-content/70">for callers of {job.connection}, with their id and key; .ndjson and .json answer too</span>
  </dd>
</dl>
