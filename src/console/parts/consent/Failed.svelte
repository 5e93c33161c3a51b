<script lang="ts">
  import CircleX from '@lucide/svelte/icons/circle-x';
  import type { Connection, ConsentOutcome } from '../../../api/connections.ts';
  import { SIDE_LABELS } from '../../../api/vocabulary.ts';
  import AdminConsentNote from '../AdminConsentNote.svelte';
  import DiagnosisNote from '../DiagnosisNote.svelte';
  import NothingCameBack from '../NothingCameBack.svelte';
  import Reconnect from '../Reconnect.svelte';
  import StandbyNote from '../StandbyNote.svelte';

  /** A consent that failed, or needs a decision: what happened, why, which side fixes it, what to do. */
  interface Props {
    outcome: ConsentOutcome;
    connection: Connection | null;
    signedIn: boolean;
    way: 'pasted' | 'device' | 'printed' | undefined;
    again: () => unknown;
    reload: () => unknown;
  }
  const { outcome: o, connection, signedIn, way, again, reload }: Props = $props();
</script>

{#if o.problem}
  <div class="border-l-4 border-error bg-base-200 px-4 py-3 mb-5" role="alert">
    <p class="text-lg font-semibold text-error flex items-center gap-2"><CircleX size={20} aria-hidden="true" />{o.problem.title}</p>
    {#if !o.problem.diagnosis && o.problem.evidence}<p>Evidence: <code>{o.problem.evidence}</code></p>{/if}
    {#if !o.problem.diagnosis || o.decide}<p>Fix it at: {SIDE_LABELS[o.problem.side]}.</p>
      <p><strong>What to do:</strong> {o.problem.remedy}</p>{/if}
  </div>
  {#if o.problem.diagnosis}<DiagnosisNote diagnosis={o.problem.diagnosis} />{/if}
  {#if connection && o.decide}<StandbyNote {connection} done={again} />{/if}
  {#if connection && o.problem.diagnosis?.half === 'organization'}<AdminConsentNote {connection} />{/if}
  {#if o.page_diagnosis}<h2 class="mt-3">What their page meant</h2>
    <DiagnosisNote
      diagnosis={o.page_diagnosis}
    />{:else if signedIn && !o.problem.diagnosis && !o.decide && o.way === 'redirect'}<NothingCameBack outcome={o} done={reload} />{/if}
  {#if signedIn}<div class="flex gap-2 mb-5">
      <Reconnect connection={o.connection} label="Open it again" {way} /><a
        class="btn btn-sm"
        href={`#/providers/${o.provider}/clients/${o.client}`}>To the client</a
      ><a class="btn btn-sm" href={`#/connections/${o.connection}`}>To the connection</a>
    </div>{/if}
{/if}
