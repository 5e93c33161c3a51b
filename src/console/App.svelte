<script lang="ts">
  import { onMount } from 'svelte';
  import Router, { router } from 'svelte-spa-router';
  import { type AsyncSvelteComponent, wrap } from 'svelte-spa-router/wrap';
  import Nothing from './pages/Nothing.svelte';
  import Overview from './pages/Overview.svelte';
  import SignIn from './pages/SignIn.svelte';
  import Unloaded from './pages/Unloaded.svelte';
  import Shell from './parts/Shell.svelte';
  import { session } from './state/session.svelte.ts';

  const loads: AsyncSvelteComponent[] = [];
  /** A page that is fetched when it is opened, or once nothing else is to do. After an upgrade its file may be gone: then that is said. */
  function later(load: AsyncSvelteComponent): ReturnType<typeof wrap> {
    loads.push(load);
    return wrap({ asyncComponent: () => load().catch(() => ({ default: Unloaded })) });
  }
  const routes = {
    '/': Overview,
    '/connections': later(() => import('./pages/Connections.svelte')),
    '/connections/new': later(() => import('./pages/NewConnection.svelte')),
    '/connections/:connection/:tab?': later(() => import('./pages/Connection.svelte')),
    '/providers': later(() => import('./pages/Providers.svelte')),
    '/providers/new': later(() => import('./pages/NewProvider.svelte')),
    '/providers/:provider': later(() => import('./pages/Provider.svelte')),
    '/providers/:provider/clients/new': later(() => import('./pages/NewClient.svelte')),
    '/providers/:provider/clients/:client/:tab?': later(() => import('./pages/Client.svelte')),
    '/callers': later(() => import('./pages/Callers.svelte')),
    '/callers/:caller/:tab?': later(() => import('./pages/Caller.svelte')),
    '/jobs': later(() => import('./pages/Jobs.svelte')),
    '/upcoming': later(() => import('./pages/Upcoming.svelte')),
    '/jobs/new': later(() => import('./pages/NewJob.svelte')),
    '/jobs/:job/:tab?': later(() => import('./pages/Job.svelte')),
    '/activity': later(() => import('./pages/Activity.svelte')),
    '/help': later(() => import('./pages/Help.svelte')),
    '/help/:document/:anchor?': later(() => import('./pages/Help.svelte')),
    '/notices': later(() => import('./pages/Notices.svelte')),
    '/notices/:notice': later(() => import('./pages/Notice.svelte')),
    '/rehearsals': later(() => import('./pages/Rehearsals.svelte')),
    '/rehearsals/:rehearsal': later(() => import('./pages/Rehearsal.svelte')),
    '/privilege': later(() => import('./pages/Privilege.svelte')),
    '/settings/:tab?': later(() => import('./pages/Settings.svelte')),
    '/sign-in-requests/:request': later(() => import('./pages/SignInRequest.svelte')),
    '/consents/:consent': later(() => import('./pages/Consent.svelte')),
    '/join/:ticket': later(() => import('./pages/Join.svelte')),
    '/first-operator/:ticket': later(() => import('./pages/FirstOperator.svelte')),
    '*': Nothing,
  };
  /** Pages that a person without a login here may see: the outcome of their consent, and the very first sign-up. */
  const OPEN = /^\/(consents|first-operator|join)\//;
  const open = $derived(OPEN.test(router.location));

  void session.ask();
  const LATER_MS = 1_500;
  onMount(() => {
    const timer = setTimeout(() => {
      for (const load of loads) load().catch(() => undefined); // the page shows the error
    }, LATER_MS);
    return () => clearTimeout(timer);
  });
</script>

{#if session.who === null && !open}
  <SignIn />
{:else if session.who !== 'unknown' || open}
  <Shell bare={session.who === null || session.who === 'unknown'}>
    <Router {routes} restoreScrollState />
  </Shell>
{/if}
