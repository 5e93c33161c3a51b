<script lang="ts">
  import type { Connection } from '../../api/connections.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import DiagnosisNote from './DiagnosisNote.svelte';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** Capabilities, verified one by one; those with effects only after a second click that shows it. */
  const { connection: c, done }: { connection: Connection; done: () => unknown } = $props();
  let asking = $state<string | null>(null);
  const verifying = new Action();
  const verify = (capability: string, effects: boolean) =>
    verifying.run(async () => {
      asking = null;
      await call('probeConnection', { params: { connection: c.name }, body: { capability, effects } });
      await done();
    });
  const WORDS = { verified: 'verified', failed: 'failed', not_verified: 'not tried' };
  const COLOURS = { verified: 'text-success', failed: 'text-error', not_verified: 'text-warning' };
  const idle = $derived(c.state === 'paused' || c.state === 'revoked' || c.consented_at === null);
</script>

<table class="list-table max-w-5xl">
  <thead
    ><tr
      ><th class="w-36">Capability</th><th>Call</th><th class="w-28">State</th><th class="w-28">When</th><th class="w-56"
        ><span class="sr-only">Verify</span></th
      ></tr
    ></thead
  >
  <tbody>
    {#each c.capabilities as one (one.name)}
      <tr>
        <td data-label="Capability">{one.name}</td><td data-label="Call"
          ><code>{one.call}</code> <span class="text-base-content/70">{one.api}</span>{#if !one.allowed}<div class="text-warning text-sm">
              the scopes held do not allow it
            </div>{/if}{#if one.diagnosis}<DiagnosisNote diagnosis={one.diagnosis} />{/if}</td
        >
        <td data-label="State" class={['font-semibold', COLOURS[one.state]]}>{WORDS[one.state]}</td><td data-label="When"
          ><Time at={one.at} /></td
        >
        <td class="text-right">
          {#if asking === one.name}<span class="text-sm"
              >It changes something at {c.provider_title} ({c.environment}), or someone sees it.</span
            > <button class="btn btn-xs btn-warning" disabled={verifying.busy} onclick={() => verify(one.name, true)}>Make the call</button>
            <button class="btn btn-xs" onclick={() => (asking = null)}>Cancel</button>
          {:else}<button
              class="btn btn-xs"
              disabled={verifying.busy || idle}
              onclick={() => (one.effects ? (asking = one.name) : verify(one.name, false))}>{one.effects ? 'Verify…' : 'Verify'}</button
            >{/if}
        </td>
      </tr>
    {:else}<tr><td colspan="5">The definition names no probe.</td></tr>{/each}
  </tbody>
</table>
<ProblemNote problem={verifying.problem} />
