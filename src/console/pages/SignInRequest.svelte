<script lang="ts">
  import type { SignInRequest } from '../../api/callers.ts';
  import Time from '../ui/Time.svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import StateMark from '../parts/StateMark.svelte';
  import Title from '../parts/Title.svelte';
  import { Action } from '../state/query.svelte.ts';
  import { call, session } from '../state/session.svelte.ts';

  /** A tool sent the browser here: let it use which connection? */
  const { params }: { params: { request: string } } = $props();
  let asked = $state.raw<SignInRequest | null>(null);
  let chosen = $state('');
  let gone = $state(false);
  const reading = new Action();
  const answering = new Action();
  $effect(() => {
    const { request } = params;
    void reading.run(async () => {
      asked = await call('showSignInRequest', { params: { request } });
      chosen = asked.wished ?? (asked.connections.length === 1 ? (asked.connections[0]?.name ?? '') : '');
    });
  });
  const who = $derived(typeof session.who === 'object' ? session.who?.operator : '');
  const answer = (connection: string | null) =>
    answering.run(async () => {
      const { location: there } = await call('answerSignInRequest', { params: { request: params.request }, body: { connection } });
      gone = true;
      location.assign(there);
    });
</script>

<Title title={asked ? `Let ${asked.title} use which connection?` : 'A tool asks'} />
<ProblemNote problem={reading.problem} />
{#if asked}
  <p class="max-w-3xl mb-3">
    <strong>{asked.title}</strong> ({asked.caller}) wants to call an API. You are signed in as <strong>{who}</strong>. It may use what you
    choose until someone ends it on its page; afterwards the browser goes back to <code class="break-all">{asked.returns_to}</code>. If you
    did not just start this in that tool, say no.
  </p>
  {#if !asked.pkce}<p class="max-w-3xl border-l-4 border-warning pl-3 mb-3">
      The tool does not use PKCE: a code that leaks on its way back is guarded by its secret alone.
    </p>{/if}
  {#if asked.connections.length === 0}<p class="mb-3">
      This caller may use no connection yet. <a class="link link-primary" href={`#/callers/${asked.caller}`}>Permit one</a>, then start the
      sign-in in the tool again.
    </p>
  {:else}
    <fieldset class="mb-4">
      <legend class="sr-only">Connection</legend>
      <table class="list-table max-w-4xl">
        <thead
          ><tr
            ><th class="w-8"><span class="sr-only">Choose</span></th><th>Connection</th><th>Provider</th><th>Account</th><th>State</th><th
              >What the tool may do</th
            ></tr
          ></thead
        >
        <tbody
          >{#each asked.connections as one (one.name)}<tr
              ><td><input type="radio" class="radio radio-sm" id={`use-${one.name}`} value={one.name} bind:group={chosen} /></td><td
                data-label="Connection"><label class="font-semibold cursor-pointer" for={`use-${one.name}`}>{one.name}</label></td
              ><td data-label="Provider">{one.provider_title} <span class="text-sm text-base-content/70">{one.environment}</span></td><td
                data-label="Account"
                class="break-all">{one.account ?? '–'}</td
              ><td data-label="State"><StateMark state={one.state} /></td><td data-label="What the tool may do">{one.says}</td></tr
            >{/each}</tbody
        >
      </table>
    </fieldset>
  {/if}
  <ProblemNote problem={answering.problem} />
  {#if gone}<p role="status">Going back to {asked.title}…</p>
  {:else}
    <button class="btn btn-primary" disabled={answering.busy || chosen === ''} onclick={() => answer(chosen)}
      >{chosen === '' ? 'Choose a connection' : `Let it use ${chosen}`}</button
    >
    <button class="btn" disabled={answering.busy} onclick={() => answer(null)}>Cancel</button>
    <p class="text-sm text-base-content/70 mt-2">This question expires <Time at={asked.expires_at} />.</p>
  {/if}
{:else if !reading.problem}<p aria-busy="true">Loading…</p>{/if}
