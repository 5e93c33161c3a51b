<script lang="ts">
  import Cable from '@lucide/svelte/icons/cable';
  import CircleGauge from '@lucide/svelte/icons/circle-gauge';
  import Landmark from '@lucide/svelte/icons/landmark';
  import LogOut from '@lucide/svelte/icons/log-out';
  import Moon from '@lucide/svelte/icons/moon';
  import SettingsIcon from '@lucide/svelte/icons/settings';
  import Sun from '@lucide/svelte/icons/sun';
  import Workflow from '@lucide/svelte/icons/workflow';
  import type { Snippet } from 'svelte';
  import { router } from 'svelte-spa-router';
  import { look } from '../state/look.svelte.ts';
  import { session } from '../state/session.svelte.ts';

  const { children, bare }: { children: Snippet; bare: boolean } = $props();
  const places = [
    { path: '/', name: 'Now', icon: CircleGauge },
    { path: '/connections', name: 'Connections', icon: Cable },
    { path: '/providers', name: 'Providers', icon: Landmark },
    { path: '/callers', name: 'Callers', icon: Workflow },
    { path: '/settings', name: 'Settings', icon: SettingsIcon },
  ];
  const isHere = (path: string) => (path === '/' ? router.location === '/' : router.location.startsWith(path));
  const who = $derived(typeof session.who === 'object' ? session.who : null);
  const skip = (event: MouseEvent) => {
    event.preventDefault();
    document.getElementById('main')?.focus();
  };
</script>

<a href="#main" onclick={skip} class="sr-only focus:not-sr-only focus:absolute focus:z-10 focus:bg-base-100 focus:p-2">Skip to the page</a>
<div class="flex min-h-screen flex-col md:flex-row bg-base-100 text-base-content">
  <header class="bg-neutral text-neutral-content md:w-44 shrink-0 flex md:flex-col md:sticky md:top-0 md:h-screen">
    <div class="flex items-center gap-2 px-4 py-3 text-[1.05rem] font-semibold leading-tight">
      <img src="/icon.svg" alt="" class="size-6" />Rusty Kettle
    </div>
    {#if !bare}
      <nav aria-label="Main" class="flex md:flex-col flex-wrap grow">
        {#each places as place (place.path)}
          <a
            href={`#${place.path}`}
            aria-current={isHere(place.path) ? 'page' : undefined}
            class={[
              'flex items-center gap-2 px-4 py-1.5 border-l-4 hover:bg-white/5',
              isHere(place.path) ? 'border-[#d9763f] bg-white/10 font-semibold' : 'border-transparent',
            ]}
          >
            <place.icon size={17} aria-hidden="true" />{place.name}
          </a>
        {/each}
      </nav>
    {/if}
    <div class="md:mt-auto flex md:flex-col gap-1 px-2 py-2 ml-auto md:ml-0 text-sm">
      {#if who}<span class="px-2 opacity-80 hidden md:block">{who.operator}</span>{/if}
      <button type="button" class="flex items-center gap-2 px-2 py-1 hover:underline cursor-pointer" onclick={() => look.toggle()}>
        {#if look.theme === 'kettle-day'}<Moon size={15} aria-hidden="true" />Dark{:else}<Sun size={15} aria-hidden="true" />Light{/if}
      </button>
      {#if who}
        <button type="button" class="flex items-center gap-2 px-2 py-1 hover:underline cursor-pointer" onclick={() => session.signOut()}
          ><LogOut size={15} aria-hidden="true" />Sign out</button
        >
      {/if}
    </div>
  </header>
  <main id="main" tabindex="-1" class="grow min-w-0 px-6 py-5 max-w-[76rem] outline-none">{@render children()}</main>
</div>
