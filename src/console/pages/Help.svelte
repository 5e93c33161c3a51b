<script lang="ts">
  import { tick } from 'svelte';
  import ProblemNote from '../parts/ProblemNote.svelte';
  import Title from '../parts/Title.svelte';
  import { type HelpIndex, readHelp } from '../state/help.ts';
  import { Query } from '../state/query.svelte.ts';

  /** The documentation, offline: an index, or one document. */
  const { params = null }: { params?: { document: string | null; anchor: string | null } | null } = $props();
  const name = $derived(params?.document ?? null);
  const index = new Query(async () => JSON.parse(await readHelp('index.json')) as HelpIndex[]);
  const document_ = new Query(async () => (name === null ? '' : readHelp(`${name}.html`)));
  $effect(() => index.start());
  $effect(() => {
    void name;
    return document_.start();
  });
  const title = $derived(index.value?.flatMap((one) => one.documents).find((one) => one.name === name)?.title ?? 'Help');
  $effect(() => {
    const anchor = params?.anchor;
    if (!anchor || !document_.value) return;
    void tick().then(() => document.getElementById(anchor)?.scrollIntoView());
  });
</script>

<Title {title} up={name === null ? null : { href: '#/help', name: 'Help' }} />
<ProblemNote problem={index.problem ?? document_.problem} />
{#if name === null}
  <div class="grid sm:grid-cols-2 gap-6">
    {#each index.value ?? [] as group (group.kind)}
      <section aria-label={group.kind}>
        <h2 class="mb-1">{group.kind}</h2>
        <ul>
          {#each group.documents as one (one.name)}<li class="py-0.5">
              <a class="link" href={`#/help/${one.name}`}>{one.title}</a>
            </li>{/each}
        </ul>
      </section>
    {/each}
  </div>
{:else if document_.value}
  <!-- Files of this build, made from the repository's documents: nothing that anyone enters comes into them. -->
  <!-- eslint-disable-next-line svelte/no-at-html-tags -->
  <article class="help max-w-4xl">{@html document_.value}</article>
{/if}
