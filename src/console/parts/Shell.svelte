<script lang="ts">
  import Bell from '@lucide/svelte/icons/bell';
  import LogOut from '@lucide/svelte/icons/log-out';
  import MenuIcon from '@lucide/svelte/icons/menu';
  import Moon from '@lucide/svelte/icons/moon';
  import Search from '@lucide/svelte/icons/search';
  import Sun from '@lucide/svelte/icons/sun';
  import { type Snippet, untrack } from 'svelte';
  import { router } from 'svelte-spa-router';
  import { Toaster } from 'svelte-sonner';
  import { confirming } from '../state/confirming.svelte.ts';
  import { live } from '../state/live.svelte.ts';
  import { theme } from '../state/theme.svelte.ts';
  import { countShown, openNotices } from '../state/notices.svelte.ts';
  import { PLACES } from '../state/places.ts';
  import { session } from '../state/session.svelte.ts';
  import Keys from './Keys.svelte';

  const { children, bare }: { children: Snippet; bare: boolean } = $props();
  const isHere = (path: string) => (path === '/' ? router.location === '/' : router.location.startsWith(path));
  const who = $derived(typeof session.who === 'object' ? session.who : null);
  let isMenuOpen = $state(false);
  let palette = $state(false);
  const skip = (event: MouseEvent) => {
    event.preventDefault();
    document.getElementById('main')?.focus();
  };
  const isSignedIn = $derived(who !== null);
  const open = $derived(countShown(openNotices.value?.counts));
  $effect(() => {
    if (!isSignedIn) return;
    const stop = untrack(() => {
      live.start();
      return openNotices.start();
    });
    return () => {
      stop();
      live.stop();
    };
  });
</script>

<a href="#main" onclick={skip} class="sr-only focus:not-sr-only focus:absolute focus:z-10 focus:bg-base-100 focus:p-2">Skip to the page</a>
<div class="flex min-h-screen flex-col md:flex-row bg-base-100 text-base-content">
  <header class="bg-neutral text-neutral-content md:w-44 shrink-0 flex flex-wrap md:flex-nowrap md:flex-col md:sticky md:top-0 md:h-screen">
    <div class="flex items-center gap-2 px-4 py-3 text-[1.05rem] font-semibold leading-tight">
      <img src="/icon.svg" alt="" class="size-6" />Rusty Kettle
    </div>
    {#if !bare}
      <button
        type="button"
        class="md:hidden ml-auto px-4 cursor-pointer"
        aria-expanded={isMenuOpen}
        aria-controls="menu"
        onclick={() => (isMenuOpen = !isMenuOpen)}><MenuIcon size={20} aria-hidden="true" /><span class="sr-only">Menu</span></button
      >
      <div id="menu" class={['basis-full md:basis-auto md:flex md:flex-col md:grow', isMenuOpen ? 'flex flex-col' : 'hidden']}>
        <button
          type="button"
          class="flex items-center gap-2 mx-3 mb-2 px-2 py-1 text-sm border border-white/25 rounded-field cursor-pointer hover:bg-white/5"
          onclick={() => (palette = true)}
          ><Search size={15} aria-hidden="true" />Find<kbd class="ml-auto opacity-80 mono">Ctrl K</kbd></button
        >
        <nav aria-label="Main" class="flex flex-col">
          {#each PLACES as place (place.path)}
            <a
              href={`#${place.path}`}
              aria-current={isHere(place.path) ? 'page' : undefined}
              onclick={() => (isMenuOpen = false)}
              class={[
                'flex items-center gap-2 px-4 py-1.5 border-l-4 hover:bg-white/5',
                isHere(place.path) ? 'border-[#d9763f] bg-white/10 font-semibold' : 'border-transparent',
              ]}
            >
              <place.icon size={17} aria-hidden="true" />{place.name}
            </a>
          {/each}
        </nav>
        <a
          href="#/notices"
          aria-current={isHere('/notices') ? 'page' : undefined}
          onclick={() => (isMenuOpen = false)}
          class={[
            'flex items-center gap-2 px-4 py-1.5 mt-2 border-l-4 hover:bg-white/5',
            isHere('/notices') ? 'border-[#d9763f] bg-white/10 font-semibold' : 'border-transparent',
          ]}
          ><Bell size={17} aria-hidden="true" />Notices{#if open}<span
              class={[
                'ml-auto rounded-full px-2 text-sm tabular-nums font-semibold',
                open.tone === 'bad' ? 'bg-error text-error-content' : 'bg-white/20',
              ]}>{open.count}<span class="sr-only"> open</span></span
            >{/if}</a
        >
        <div class="md:mt-auto flex flex-col gap-1 px-2 py-2 text-sm">
          {#if who}<a class="px-2 opacity-80 hover:underline" href="#/settings/account"
              >{who.operator}{who.role === 'administrator' ? '' : `, ${who.role}`}</a
            >{/if}
          {@render themeButton()}
          {#if who}
            <button type="button" class="flex items-center gap-2 px-2 py-1 hover:underline cursor-pointer" onclick={() => session.signOut()}
              ><LogOut size={15} aria-hidden="true" />Sign out</button
            >
          {/if}
        </div>
      </div>
    {:else}<div class="md:mt-auto ml-auto md:ml-0 px-2 py-2 text-sm">{@render themeButton()}</div>{/if}
  </header>
  <main id="main" tabindex="-1" class="grow min-w-0 px-4 md:px-6 py-5 max-w-[76rem] outline-none">
    {#if who?.installation.practice}
      <p class="border-l-4 border-warning bg-warning/15 px-4 py-2 mb-5 font-semibold" role="status">
        Practice restore: it issues, renews, sends and delivers nothing.
      </p>
    {/if}
    {#if live.state === 'lost'}<p role="status" class="border-l-4 border-warning bg-base-200 px-3 py-1 mb-3">
        Connection to the service lost. Reconnecting…
      </p>{/if}
    {#if who && (who.role === 'viewer' || who.labels.length > 0)}<p class="text-sm text-base-content/70 mb-2">
        Signed in as {who.role}{who.labels.length > 0 ? `, limited to ${who.labels.join(', ')}` : ''}{who.role === 'viewer'
          ? ': you can look, not change'
          : ''}. <a class="link" href="#/settings/operators">Who can help</a>
      </p>{/if}
    {@render children()}
  </main>
</div>
{#if !bare}<Keys bind:palette />{/if}
{#if confirming.waiting}{#await import('./ConfirmIdentity.svelte') then { default: ConfirmIdentity }}<ConfirmIdentity />{/await}{/if}
<Toaster position="bottom-right" theme={theme.current === 'kettle-night' ? 'dark' : 'light'} />

{#snippet themeButton()}
  <button type="button" class="flex items-center gap-2 px-2 py-1 hover:underline cursor-pointer" onclick={() => theme.toggle()}>
    {#if theme.current === 'kettle-day'}<Moon size={15} aria-hidden="true" />Dark{:else}<Sun size={15} aria-hidden="true" />Light{/if}
  </button>
{/snippet}
