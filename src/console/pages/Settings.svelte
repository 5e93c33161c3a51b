<script lang="ts">
  import Channels from '../parts/notices/Channels.svelte';
  import OwnAccount from '../parts/OwnAccount.svelte';
  import InstallationAnswers from '../parts/settings/InstallationAnswers.svelte';
  import LogLevel from '../parts/settings/LogLevel.svelte';
  import Title from '../parts/Title.svelte';
  import Tabs from '../ui/Tabs.svelte';

  const { params = {} }: { params?: { tab?: string } } = $props();
  const TABS = [
    { id: 'answers', label: 'Answers for forms' },
    { id: 'channels', label: 'Channels' },
    { id: 'log', label: 'Log' },
    { id: 'account', label: 'Your account' },
  ];
  const tab = $derived(params.tab ?? 'answers');
</script>

<Title title="Settings" />
<Tabs base="/settings" tabs={TABS} current={tab} />
{#if tab === 'channels'}<Channels />
{:else if tab === 'log'}<LogLevel />
{:else if tab === 'account'}<OwnAccount />
{:else}<InstallationAnswers />{/if}
