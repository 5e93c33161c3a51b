<script lang="ts">
  import ExternalLink from '@lucide/svelte/icons/external-link';
  import type { ConsentOutcome } from '../../api/connections.ts';
  import { clock } from '../state/clock.svelte.ts';
  import Copy from '../ui/Copy.svelte';

  /** A code that someone enters on any device, while we ask the provider whether they have decided. */
  const { outcome: o }: { outcome: ConsentOutcome } = $props();
  const left = $derived(Math.max(0, Math.ceil((Date.parse(o.expires_at) - clock.now) / 1000)));
</script>

{#if o.device}
  <ol class="list-decimal ml-5 max-w-2xl">
    <li class="mb-2">
      On any device, open the page of {o.provider_title}: <Copy value={o.device.page} label="the address of the page" />
      {#if o.device.page_with_code}<a class="btn btn-sm ml-1" href={o.device.page_with_code} target="_blank" rel="noopener"
          >Open it here<ExternalLink size={14} aria-hidden="true" /></a
        >{/if}
    </li>
    <li class="mb-2">
      Enter this code, sign in, and consent: <span class="text-2xl font-semibold tracking-wider mx-2"
        ><Copy value={o.device.user_code} label="the code" /></span
      >
    </li>
  </ol>
  <p role="timer" class={['font-semibold tabular-nums', left < 60 && 'text-warning']}>
    {Math.floor(left / 60)}:{String(left % 60).padStart(2, '0')} left
  </p>
  <p class="text-base-content/70">
    {o.provider_title} is polled every {o.device.interval_seconds} s, {o.device.polls} times so far. You may leave this page and come back.
  </p>
{/if}
