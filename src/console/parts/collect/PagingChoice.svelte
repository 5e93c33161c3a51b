<script lang="ts">
  import type { Recognized } from '../../../api/jobs.ts';

  /** How a list is paged: what the definition states, or what was recognized, each with its evidence. */
  interface Props {
    found: Recognized;
    chosen: number;
    /** Recognizes again with the list at this pointer; null: the response itself. */
    useList: (at: string | null) => void;
  }
  let { found, chosen = $bindable(), useList }: Props = $props();
  const STATED_BY = { definition: 'As the definition states', saved_call: 'As kept with the saved call', request: 'As you stated' };
  const listName = (at: string | null): string => at ?? 'the response itself';
  const listInUse = $derived(found.guesses[chosen]?.plan.items ?? null);
  const CONFIDENCE = { strong: 'the response names it', likely: 'likely', weak: 'a guess' };
  const declared = $derived(found.declared);
  const settings = $derived(
    declared
      ? Object.entries(declared).map(
          ([name, value]) => `${name.replaceAll('_', ' ')}: ${typeof value === 'object' ? JSON.stringify(value) : value}`,
        )
      : [],
  );
</script>

<fieldset class="mb-3">
  <legend class="font-semibold mb-1">How the list is paged</legend>
  {#if declared}
    <label class="flex gap-2 items-start py-1"
      ><input type="radio" class="radio radio-sm mt-0.5" bind:group={chosen} value={-1} /><span
        ><span class="font-semibold">{STATED_BY[found.declared_by ?? 'definition']}</span>
        <span class="block text-sm text-base-content/70">{settings.join(', ')}</span></span
      ></label
    >
  {/if}
  {#each found.guesses as guess, at (at)}
    <label class="flex gap-2 items-start py-1"
      ><input type="radio" class="radio radio-sm mt-0.5" bind:group={chosen} value={at} /><span
        ><span class="font-semibold">Recognized: {guess.says}</span> ({CONFIDENCE[guess.confidence]})
        <span class="block text-sm text-base-content/70">{guess.evidence.join('; ')}</span></span
      ></label
    >
  {/each}
</fieldset>
{#if found.lists.length > 1}
  <fieldset class="mb-3">
    <legend class="font-semibold mb-1">Which list holds the records</legend>
    {#each found.lists as list (list.at)}
      <label class="flex gap-2 items-start py-1"
        ><input
          type="radio"
          name="list"
          class="radio radio-sm mt-0.5"
          checked={chosen >= 0 && list.at === listInUse}
          onchange={() => useList(list.at)}
        /><span><span class="mono">{listName(list.at)}</span>, {list.count} records in this response</span></label
      >
    {/each}
  </fieldset>
{/if}
