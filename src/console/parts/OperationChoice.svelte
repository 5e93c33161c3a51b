<script lang="ts">
  import type { ProviderDefinition } from '../../core/provider/definition.ts';
  import { call } from '../state/session.svelte.ts';

  /** Operations of the API that a connection is for: their weakest scopes are ticked, and a weaker client is proposed. */
  interface Props {
    definition: ProviderDefinition;
    client: string;
    chosen: string[];
    scopes: (needed: string[]) => void;
  }
  let { definition, client, chosen = $bindable(), scopes }: Props = $props();
  const SHOWN = 60;
  let search = $state('');
  let weaker = $state<string | null>(null);
  const all = $derived(definition.apis.flatMap((api) => api.operations));
  const found = $derived(
    all.filter((one) => `${one.method} ${one.path} ${one.id} ${one.says}`.toLowerCase().includes(search.toLowerCase())),
  );
  const pick = async () => {
    const answer = await call('chooseScopes', {
      params: { provider: definition.name },
      body: { operations: $state.snapshot(chosen), client },
    });
    weaker = answer.weaker_client;
    scopes(answer.scopes);
  };
</script>

{#if all.length > 0}
  <fieldset class="mb-3">
    <legend class="font-semibold mb-1">What it is for</legend>
    <p class="text-sm text-base-content/70 mb-1">Tick the operations: the weakest scopes that they need are ticked below.</p>
    {#if all.length > 12}<input
        class="input w-full mb-1"
        aria-label="Search operations"
        placeholder="Search operations"
        bind:value={search}
      />{/if}
    {#each found.slice(0, SHOWN) as one (one.id)}
      <label class="flex items-baseline gap-2 py-0.5"
        ><input type="checkbox" class="checkbox checkbox-sm self-center" value={one.id} bind:group={chosen} onchange={pick} /><code
          class="shrink-0">{one.method} {one.path}</code
        ><span>{one.says}</span><span class="ml-auto text-sm text-base-content/70"
          >{one.needs.map((list) => list.join(' + ')).join(' or ')}</span
        ></label
      >
    {/each}
    {#if found.length > SHOWN}<p class="text-sm text-base-content/70">And {found.length - SHOWN} more: search for them.</p>{/if}
    {#if weaker}<p class="border-l-4 border-info pl-3 my-1">The client <strong>{weaker}</strong> is weaker and would do for these.</p>{/if}
  </fieldset>
{/if}
