<script lang="ts">
  import type { ProviderPreview } from '../../api/providers.ts';
  import { Action } from '../state/query.svelte.ts';
  import { counted } from '../state/moments.ts';
  import { call } from '../state/session.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** Edits a definition in use: what changes for whom is shown before it is saved. */
  const { provider, document: current, done }: { provider: string; document: string; done: () => unknown } = $props();
  // svelte-ignore state_referenced_locally
  let text = $state(current);
  let preview = $state.raw<ProviderPreview | null>(null);
  const doing = new Action();
  const look = () =>
    doing.run(async () => {
      preview = await call('previewProvider', { params: { provider }, body: { document: text } });
    });
  const save = () =>
    doing.run(async () => {
      await call('changeProvider', { params: { provider }, body: { document: text, revision: preview?.revision ?? 0 } });
      preview = null;
      await done();
    });
</script>

<textarea
  class="textarea w-full mono h-80 whitespace-pre"
  aria-label="Definition"
  spellcheck="false"
  bind:value={text}
  oninput={() => (preview = null)}></textarea>
<ProblemNote problem={doing.problem} />
{#if preview}
  {#if preview.changes.length === 0}<p class="my-2">Nothing changes.</p>{:else}
    <table class="list-table table-fixed my-2">
      <caption class="sr-only">What changes</caption><thead><tr><th class="w-1/4">Place</th><th>Was</th><th>Becomes</th></tr></thead>
      <tbody
        >{#each preview.changes as one (one.path)}<tr
            ><td data-label="Place" class="mono break-all">{one.path}</td><td data-label="Was" class="break-all">{one.from ?? '–'}</td><td
              data-label="Becomes"
              class="break-all">{one.to ?? '–'}</td
            ></tr
          >{/each}</tbody
      >
    </table>
    {#each preview.effects as effect (effect.client)}<p class="border-l-4 border-warning pl-3 my-1">
        <strong>{effect.client}</strong>, {counted(effect.connections, 'connection')}: {effect.says.join(' ')}
      </p>{:else}<p class="my-1">No client and no connection is touched by it.</p>{/each}
    {#each preview.refused as why (why)}<p class="border-l-4 border-error pl-3 my-1"><strong>Cannot be saved.</strong> {why}</p>{/each}
    <p class="mt-2">
      <button class="btn btn-primary btn-sm" disabled={doing.busy || preview.refused.length > 0} onclick={save}
        >Save as a new version</button
      >
    </p>
  {/if}
{:else}<p class="mt-2">
    <button class="btn btn-sm" disabled={doing.busy || text === current} onclick={look}>Show what that changes</button>
  </p>{/if}
