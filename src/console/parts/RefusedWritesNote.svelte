<script lang="ts">
  import type { Status } from '../../api/status.ts';
  import { counted } from '../../core/counted.ts';
  import Time from '../ui/Time.svelte';

  /** The database answers and takes no writes: since when, how much waits, and what to do. */
  const { refused }: { refused: NonNullable<Status['installation']['writes_refused']> } = $props();
</script>

<section class="border-l-4 border-error bg-error/10 px-4 py-3 mb-6" role="alert" aria-labelledby="refused">
  <h2 id="refused">The database refuses writes</h2>
  <p>
    Since: <Time at={refused.since} />. {refused.says}
    {#if refused.waiting > 0}{counted(refused.waiting, 'answer')} of providers wait in memory and in sealed files.{/if}
  </p>
  <p>Free space on the disk of the database, or end its read-only mode. Tokens are still issued and renewed. Do not stop the service.</p>
</section>
