<script lang="ts">
  import CircleAlert from '@lucide/svelte/icons/circle-alert';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import type { DraftedProvider } from '../../api/providers.ts';

  /** What a draft says: the ready line, where every value came from, what was tidied, and how the endpoints answered. */
  const { draft }: { draft: DraftedProvider } = $props();
</script>

<p role="status" class={['flex items-center gap-2 font-semibold mb-2', draft.ready ? 'text-success' : 'text-warning']}>
  {#if draft.ready}<CircleCheck size={17} aria-hidden="true" />Ready: nothing is missing.{:else}<CircleAlert
      size={17}
      aria-hidden="true"
    />Missing: {draft.missing.join(', ') || 'see the places below'}.{/if}
</p>
{#each draft.wrong as one (one.path + one.why)}<p class="text-error"><code>{one.path}</code>: {one.why}</p>{/each}
{#each draft.tidied as said (said)}<p class="border-l-4 border-info pl-3 my-1">Tidied. {said}</p>{/each}
{#each draft.warnings as said (said)}<p class="border-l-4 border-warning pl-3 my-1">{said}</p>{/each}
<table class="list-table table-fixed my-3">
  <caption class="sr-only">Values and where each came from</caption>
  <thead><tr><th class="w-56">Value</th><th>Is</th><th class="w-72">From</th></tr></thead>
  <tbody
    >{#each draft.values as one (one.path)}<tr
        ><td data-label="Value" class="mono break-all">{one.path}</td><td data-label="Is" class="break-all">{one.value}</td><td
          data-label="From"
          class="text-base-content/70 break-words">{one.source}</td
        ></tr
      >{/each}</tbody
  >
</table>
{#if draft.endpoints.length > 0}
  <h2 class="mb-1">Asked without any secret</h2>
  {#each draft.endpoints as one (one.endpoint)}<p class={['flex items-start gap-2', one.good ? '' : 'text-warning']}>
      {#if one.good}<CircleCheck size={16} class="mt-0.5 shrink-0 text-success" aria-hidden="true" />{:else}<CircleAlert
          size={16}
          class="mt-0.5 shrink-0"
          aria-hidden="true"
        />{/if}<span>{one.endpoint.replaceAll('_', ' ')}: {one.says}</span>
    </p>{/each}
{/if}
