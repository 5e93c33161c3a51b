<script lang="ts">
  import type { Component } from 'svelte';
  import { push } from 'svelte-spa-router';
  import type { OpenedConsent } from '../../api/connections.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Starts a consent: the provider opens in a tab of its own, and this one waits for what comes of it. */
  interface Props {
    connection: string;
    label: string;
    strong?: boolean;
    icon?: Component<{ size?: number }> | undefined;
    way?: OpenedConsent['way'] | undefined;
    client?: string | undefined;
    prepare?: boolean;
  }
  const {
    connection,
    label,
    strong = true,
    icon: Icon = undefined,
    way = undefined,
    client = undefined,
    prepare = false,
  }: Props = $props();
  const doing = new Action();
  let warnings = $state<string[]>([]);
  let waiting = $state<string | null>(null);
  let endsOldest = $state(false);
  /** The page behind a one-time link is for others: who starts here has read what it shows, so the link is used up at once. */
  const onward = async (address: string): Promise<string> => {
    if (!address.startsWith(`${location.origin}/consent/start/`)) return address;
    const answer = await fetch(address, { method: 'POST', headers: { accept: 'application/json' } });
    return answer.ok ? ((await answer.json()) as { location: string }).location : address; // the page shows what is wrong
  };
  const letExpire = () => {
    endsOldest = true;
    start();
  };
  const start = () => {
    // Opened within the click, or the browser would take it for an unasked pop-up; its way back to us is cut before it goes anywhere.
    const tab = way === 'device' ? null : window.open('about:blank', '_blank');
    if (tab) tab.opener = null;
    void doing
      .run(async () => {
        const read = waiting === null ? null : sessionStorage.getItem(`rk-consent-${waiting}`);
        if (waiting !== null && read !== null) {
          // What it may cost was read: the consent that waits is gone on with.
          if (tab && !read.startsWith(`${location.origin}/#`)) tab.location.href = await onward(read);
          else tab?.close();
          await push(`/consents/${waiting}`);
          return;
        }
        const body = {
          ...(way && { way }),
          ...(client && { client }),
          ...(prepare && { prepare }),
          ...(endsOldest && { end_oldest: true }),
        };
        const opened = await call('openConnection', { params: { connection }, body });
        warnings = opened.warnings;
        const there = opened.authorization_url ?? opened.start_url;
        const here = there.startsWith(`${location.origin}/#`); // a page of ours, such as that for a printed code
        if (opened.by_itself || (here && warnings.length === 0)) tab?.close();
        else if (warnings.length > 0) {
          // Said before anybody consents: the link waits until it was read.
          tab?.close();
          waiting = opened.id;
          sessionStorage.setItem(`rk-consent-${opened.id}`, there);
          return;
        } else if (tab) tab.location.href = await onward(there);
        else sessionStorage.setItem(`rk-consent-${opened.id}`, there);
        await push(`/consents/${opened.id}`);
      })
      .then((good) => {
        if (!good) tab?.close();
      });
  };
</script>

<button class={['btn btn-sm', strong && 'btn-primary']} disabled={doing.busy} onclick={start}
  >{#if Icon}<Icon size={15} />{/if}{label}</button
>
{#if waiting}<div class="basis-full border-l-4 border-warning pl-3 my-1" role="alert">
    {#each warnings as warning (warning)}<p>{warning}</p>{/each}
    <p class="mt-1"><button class="btn btn-sm btn-primary" onclick={start}>Continue anyway</button></p>
  </div>{/if}
{#if doing.problem}<div class="basis-full">
    <ProblemNote problem={doing.problem} />
    {#if doing.problem.code === 'WOULD_END'}<button class="btn btn-sm btn-error" disabled={doing.busy} onclick={letExpire}
        >Let it expire and continue</button
      >{/if}
  </div>{/if}
