<script lang="ts">
  import Circle from '@lucide/svelte/icons/circle';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import type { Status } from '../../api/status.ts';
  import { firstSteps } from '../state/first-steps.ts';
  import Copy from '../ui/Copy.svelte';

  /** From nothing to a tool that uses a connection: what is done, and what is next. */
  const { status }: { status: Status } = $props();
  const steps = $derived(firstSteps(status));
  const next = $derived(steps.find((step) => !step.done));
</script>

{#if next}
  <section class="panel px-4 py-3 mb-6 max-w-4xl" aria-labelledby="first">
    <h2 id="first" class="mb-2">First steps</h2>
    <ol>
      {#each steps as step, at (step.title)}
        <li class="flex gap-3 py-1.5">
          {#if step.done}<CircleCheck size={20} class="text-success shrink-0 mt-0.5" aria-label="Done" />
          {:else}<Circle size={20} class="text-base-content/50 shrink-0 mt-0.5" aria-label="To do" />{/if}
          <div class="grow">
            <p class={step === next ? 'font-semibold' : ''}>{at + 1}. {step.title}</p>
            <p class="text-sm text-base-content/70">{step.says}</p>
          </div>
          {#if step === next}<a class="btn btn-sm btn-primary self-center" href={step.href}>{step.action}</a>{/if}
        </li>
      {/each}
    </ol>
    {#if !steps[0]?.done}
      <p class="mt-3">No account at a provider yet? Start a simulated one, and add it under the address that it shows:</p>
      <p class="mt-1"><Copy value="rk standin definitions/eelgrass.yaml" label="the command" /></p>
    {/if}
  </section>
{/if}
