<script lang="ts">
  /** The sections of an object's page. Each has an address of its own, so that links, the back button and reloads keep the place. */
  const { base, tabs, current }: { base: string; tabs: readonly { id: string; label: string; note?: string }[]; current: string } =
    $props();
  const hrefOf = (id: string) => (id === tabs[0]?.id ? `#${base}` : `#${base}/${id}`);
</script>

<nav aria-label="Sections" class="flex gap-1 overflow-x-auto border-b border-base-300 mb-4">
  {#each tabs as tab (tab.id)}
    <a
      href={hrefOf(tab.id)}
      aria-current={tab.id === current ? 'page' : undefined}
      class={[
        'px-3 py-1.5 whitespace-nowrap border-b-2 -mb-px',
        tab.id === current ? 'border-primary font-semibold' : 'border-transparent hover:border-base-300',
      ]}
      >{tab.label}{#if tab.note}<span class="ml-1.5 text-sm text-base-content/70 tabular-nums">{tab.note}</span>{/if}</a
    >
  {/each}
</nav>
