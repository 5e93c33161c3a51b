<script lang="ts">
  import Channels from '../parts/notices/Channels.svelte';
  import Account from '../parts/account/Account.svelte';
  import InstallationAnswers from '../parts/settings/InstallationAnswers.svelte';
  import LogLevel from '../parts/settings/LogLevel.svelte';
  import Backups from '../parts/settings/Backups.svelte';
  import Bundles from '../parts/settings/Bundles.svelte';
  import IdentityProvider from '../parts/settings/IdentityProvider.svelte';
  import KeyRing from '../parts/settings/KeyRing.svelte';
  import Operators from '../parts/settings/Operators.svelte';
  import Title from '../parts/Title.svelte';
  import Tabs from '../ui/Tabs.svelte';

  const { params = {} }: { params?: { tab?: string } } = $props();
  const TABS = [
    { id: 'answers', label: 'Answers for forms' },
    { id: 'channels', label: 'Channels' },
    { id: 'log', label: 'Log' },
    { id: 'operators', label: 'Operators' },
    { id: 'sign-in', label: 'Sign-in' },
    { id: 'backups', label: 'Backups' },
    { id: 'keys', label: 'Keys' },
    { id: 'bundles', label: 'Bundles' },
    { id: 'account', label: 'Your account' },
  ];
  const tab = $derived(params.tab ?? 'answers');
</script>

<Title title="Settings" />
<Tabs base="/settings" tabs={TABS} current={tab} />
{#if tab === 'channels'}<Channels />
{:else if tab === 'log'}<LogLevel />
{:else if tab === 'account'}<Account />
{:else if tab === 'operators'}<Operators />
{:else if tab === 'sign-in'}<IdentityProvider />
{:else if tab === 'backups'}<Backups />
{:else if tab === 'keys'}<KeyRing />
{:else if tab === 'bundles'}<Bundles />
{:else}<InstallationAnswers />{/if}
