<script lang="ts">
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Report from '../parts/rehearsal/Report.svelte';
  import Title from '../parts/Title.svelte';
  import { Action, Query } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Time from '../ui/Time.svelte';

  const { params }: { params: { rehearsal: string } } = $props();
  const seen = new Query(() => call('showRehearsal', { params: { rehearsal: params.rehearsal } }));
  $effect(() => {
    void params.rehearsal;
    return seen.start();
  });
  // How far a rehearsal is, is no change of the installation's records: nothing reports it, so it is asked for.
  const isRunning = $derived(seen.value?.state === 'running');
  $effect(() => {
    if (!isRunning) return;
    const timer = setInterval(() => document.hidden || void seen.load(), 1_000);
    return () => clearInterval(timer);
  });
  const canceling = new Action();
  const cancel = () =>
    canceling.run(async () => {
      await call('cancelRehearsal', { params: { rehearsal: params.rehearsal } });
      await seen.load();
    });
  const save = (document: string, name: string) => {
    const link = window.document.createElement('a');
    link.href = URL.createObjectURL(new Blob([document], { type: 'text/markdown' }));
    link.download = name;
    link.click();
    URL.revokeObjectURL(link.href);
  };
</script>

{#if seen.value}
  {@const one = seen.value}
  {@const document = one.document}
  <Title title={one.title} up={{ href: '#/rehearsals', name: 'Rehearsals' }}>
    {#if one.state === 'running'}<button class="btn btn-sm" disabled={canceling.busy} onclick={cancel}>Cancel rehearsal</button>{/if}
    {#if document !== null}<button class="btn btn-sm" onclick={() => save(document, `rehearsal-${one.scenario.replaceAll('_', '-')}.md`)}
        >Download report</button
      >{/if}
  </Title>
  <ProblemNote problem={canceling.problem} />
  <p class="mb-3 text-base-content/70">Started by {one.started_by} <Time at={one.started_at} />, on {one.providers.join(', ')}.</p>
  {#if one.state === 'running'}
    <div class="max-w-xl" role="status">
      <progress class="progress progress-primary w-full" value={one.percent} max="100" aria-label="Progress"></progress>
      <p>{one.percent} %. {one.doing}</p>
    </div>
  {:else if one.report}
    <ul class="mb-4 border-l-4 border-primary bg-base-200 px-4 py-3">
      {#each one.summary as line (line)}<li>{line}</li>{/each}
    </ul>
    <Report report={one.report} />
  {:else}<p class="border-l-4 border-error bg-base-200 px-4 py-3">
      {one.state === 'canceled' ? 'Canceled' : 'Failed'}. {one.doing} <a class="link" href="#/rehearsals">Start another</a>
    </p>{/if}
{:else}
  <ProblemNote problem={seen.problem} />
  {#if !seen.problem}<p aria-busy="true">Loading…</p>{/if}
{/if}
