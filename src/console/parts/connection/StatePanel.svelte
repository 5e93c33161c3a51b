<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import { clock } from '../../state/clock.svelte.ts';
  import { times } from '../../state/moments.ts';
  import DiagnosisNote from '../DiagnosisNote.svelte';
  import LifeLine from '../LifeLine.svelte';
  import Time from '../../ui/Time.svelte';
  import RehearsalMark from '../RehearsalMark.svelte';
  import StateMark from '../StateMark.svelte';

  /** The state of a connection: what, why, what to do, and its token's lifetime. */
  const { connection: c }: { connection: Connection } = $props();
</script>

<section class="panel px-4 py-3 mb-4" aria-label="State">
  <p class="flex flex-wrap gap-x-4">
    <StateMark state={c.state} />{#if c.rehearsal}<RehearsalMark />{/if}{#if c.cause}<span>{c.cause}</span>{/if}
  </p>
  {#if c.evidence && c.state !== 'working'}<p class="text-sm">Provider’s answer: <code>{c.evidence}</code></p>{/if}
  {#if c.remedy && !c.diagnosis}<p><strong>What to do:</strong> {c.remedy}</p>{/if}
  {#if c.diagnosis}<DiagnosisNote diagnosis={c.diagnosis} />{/if}
  {#if c.life}
    <div class="mt-3"><LifeLine life={c.life} tall /></div>
    <p class="flex flex-wrap justify-between gap-x-4 text-sm text-base-content/80">
      <span>issued <Time at={c.life.issued_at} /></span><span>renewal <Time at={c.next_renewal_at} none="not planned" /></span><span
        >{Date.parse(c.life.expires_at) > clock.now ? 'expires' : 'expired'} <Time at={c.life.expires_at} /></span
      ><span>renewed {times(c.renewals)}; ticks: last 24 hours</span>
    </p>
  {/if}
</section>
