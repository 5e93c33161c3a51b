<script lang="ts">
  import type { Component } from 'svelte';
  import { push } from 'svelte-spa-router';
  import { Doing } from '../state/loaded.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Starts a consent: the provider opens in a tab of its own, and this one waits for what comes of it. */
  const { connection, label, strong = true, icon: Icon = undefined }: { connection: string; label: string; strong?: boolean; icon?: Component<{ size?: number }> | undefined } = $props();
  const doing = new Doing();
  let warnings = $state<string[]>([]);
  let seen = $state(false);
  let waiting = $state<string | null>(null);
  const start = () => {
    // Opened within the click, or the browser would take it for an unasked pop-up; its way back to us is cut before it goes anywhere.
    const tab = window.open('about:blank', '_blank');
    if (tab) tab.opener = null;
    void doing.run(async () => {
      const opened = await call('openConnection', { params: { connection } });
      warnings = opened.warnings;
      const here = opened.start_url.startsWith(`${location.origin}/#`); // a page of ours, such as that for a printed code
      if (opened.by_itself || (here && (warnings.length === 0 || seen))) tab?.close();
      else if (warnings.length > 0 && !seen) {
        // Said before anybody consents: the link waits until it was read.
        tab?.close();
        waiting = opened.id;
        seen = true;
        sessionStorage.setItem(`rk-consent-${opened.id}`, opened.start_url);
        return;
      } else if (tab) tab.location.href = opened.start_url;
      else sessionStorage.setItem(`rk-consent-${opened.id}`, opened.start_url);
      await push(`/consents/${opened.id}`);
    }).then((good) => {
      if (!good) tab?.close();
    });
  };
</script>

<button class={['btn btn-sm', strong && 'btn-primary']} disabled={doing.busy} onclick={start}>{#if Icon}<Icon size={15} />{/if}{label}</button>
{#if waiting}<div class="basis-full border-l-4 border-warning pl-3 my-1" role="alert">{#each warnings as warning (warning)}<p>{warning}</p>{/each}<p class="mt-1"><button class="btn btn-sm btn-primary" onclick={start}>Go on all the same</button></p></div>{/if}
{#if doing.problem}<div class="basis-full"><ProblemNote problem={doing.problem} /></div>{/if}
