<script lang="ts">
  import type { Recognized } from '../../../api/jobs.ts';

  /** How a list is paged: what the definition states, or what was recognized, each with its evidence. */
  let { found, chosen = $bindable() }: { found: Recognized; chosen: number } = $props();
  const STRENGTH = { strong: 'the response names it', likely: 'likely', weak: 'a guess' };
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
        ><span class="font-semibold">As the definition states</span>
        <span class="block text-sm text-base-content/70">{settings.join(', ')}</span></span
      ></label
    >
  {/if}
  {#each found.guesses as guess, at (at)}
    <label class="flex gap-2 items-start py-1"
      ><input type="radio" class="radio radio-sm mt-0.5" bind:group={chosen} value={at} /><span
        ><span class="font-semibold">Recognized: {guess.says}</span> ({STRENGTH[guess.strength]})
        <span class="block text-sm text-base-content/70">{guess.evidence.join('; ')}</span></span
      ></label
    >
  {/each}
</fieldset>
{#if found.lists.length > 1}<p class="text-sm text-warning mb-2">
    The response holds {found.lists.length} lists: {found.lists.map((one) => `${one.at ?? 'the response'} (${one.count})`).join(', ')}.
  </p>{/if}
