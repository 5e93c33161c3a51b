<script lang="ts">
  import Router, { router } from 'svelte-spa-router';
  import Caller from './pages/Caller.svelte';
  import Callers from './pages/Callers.svelte';
  import Client from './pages/Client.svelte';
  import Connection from './pages/Connection.svelte';
  import Connections from './pages/Connections.svelte';
  import Consent from './pages/Consent.svelte';
  import Door from './pages/Door.svelte';
  import FirstOperator from './pages/FirstOperator.svelte';
  import NewClient from './pages/NewClient.svelte';
  import NewConnection from './pages/NewConnection.svelte';
  import NewProvider from './pages/NewProvider.svelte';
  import Nothing from './pages/Nothing.svelte';
  import Now from './pages/Now.svelte';
  import Provider from './pages/Provider.svelte';
  import Providers from './pages/Providers.svelte';
  import Settings from './pages/Settings.svelte';
  import SignIn from './pages/SignIn.svelte';
  import Try from './pages/Try.svelte';
  import Shell from './parts/Shell.svelte';
  import { session } from './state/session.svelte.ts';

  const routes = {
    '/': Now,
    '/connections': Connections,
    '/connections/new': NewConnection,
    '/connections/:connection': Connection,
    '/connections/:connection/try': Try,
    '/providers': Providers,
    '/providers/new': NewProvider,
    '/providers/:provider': Provider,
    '/providers/:provider/clients/new': NewClient,
    '/providers/:provider/clients/:client': Client,
    '/callers': Callers,
    '/callers/:caller': Caller,
    '/settings': Settings,
    '/door/:request': Door,
    '/consents/:consent': Consent,
    '/first-operator/:ticket': FirstOperator,
    '*': Nothing,
  };
  /** Pages that a person without a login here may see: the outcome of their consent, and the very first sign-up. */
  const OPEN = /^\/(consents|first-operator)\//;
  const open = $derived(OPEN.test(router.location));

  void session.ask();
</script>

{#if session.who === null && !open}
  <SignIn />
{:else if session.who !== 'unknown' || open}
  <Shell bare={session.who === null || session.who === 'unknown'}>
    <Router {routes} restoreScrollState />
  </Shell>
{/if}
