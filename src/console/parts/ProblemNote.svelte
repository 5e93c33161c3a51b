<script lang="ts">
  import TriangleAlert from '@lucide/svelte/icons/triangle-alert';
  import type { Problem } from '../../api/problem.ts';
  import { errorPage } from '../state/help.ts';

  /** What went wrong, why, and what to do. */
  const { problem }: { problem: Problem | null } = $props();
</script>

{#if problem}
  <div role="alert" class="border-l-4 border-error bg-base-200 px-4 py-2 my-3">
    <p class="font-semibold flex gap-2 items-center text-error">
      <TriangleAlert size={17} aria-hidden="true" class="shrink-0" />{problem.title}
    </p>
    {#if problem.detail}<p>{problem.detail}</p>{/if}
    {#if problem.places?.length}
      <ul class="list-disc ml-5">
        {#each problem.places as place, at (at)}<li>
            {place.line ? `Line ${place.line}, ` : ''}<code>{place.path}</code>: {place.why}
          </li>{/each}
      </ul>
    {/if}
    <p>{problem.remedy} <a class="link text-sm" href={errorPage(problem.code)}>About this error</a></p>
  </div>
{/if}
