<script lang="ts">
  import HistoryPanel from '../parts/HistoryPanel.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { Verifying } from '../state/verifying.svelte.ts';
  import Time from '../ui/Time.svelte';

  const verifying = new Verifying();
</script>

<Title title="Activity">
  <button class="btn btn-sm" disabled={verifying.busy} onclick={() => verifying.start()}>Verify the log</button>
</Title>
<p class="mb-3 text-base-content/70">
  What happened and who did it, newest first. Each entry holds the hash of the one before it: a change in the database shows.
</p>
<ProblemNote problem={verifying.problem} />
<div role="status" aria-live="polite">
  {#if verifying.broken}
    <div class="border-l-4 border-error bg-base-200 px-4 py-3 mb-3">
      <p class="font-semibold">The log was changed in the database.</p>
      <p>
        {verifying.broken.why}
        {#if verifying.broken.says}“{verifying.broken.says}”, written <Time at={verifying.broken.at} />.{/if}
      </p>
      {#if verifying.broken.entry}<p class="text-sm">Entry <code>{verifying.broken.entry}</code></p>{/if}
    </div>
  {:else if verifying.says}<p class="mb-3">{verifying.says}</p>{/if}
</div>
<HistoryPanel />
