<script lang="ts">
  import type { CallsRead, ComposedCall } from '../../api/trying.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call as api } from '../state/session.svelte.ts';
  import Copy from '../ui/Copy.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** A call from and to a curl line, and from a HAR file. */
  const { connection, call, load }: { connection: string; call: ComposedCall; load(call: ComposedCall): void } = $props();
  let line = $state('');
  let pasted = $state('');
  let read = $state.raw<CallsRead | null>(null);
  const doing = new Action();
  const params = $derived({ connection });
  const toCurl = () => doing.run(async () => void (line = (await api('writeCurl', { params, body: call })).line));
  const fromText = () =>
    doing.run(async () => {
      read = await api('readCalls', { params, body: { text: pasted } });
      const [first] = read.items;
      if (first) load(first.call);
    });
  const fromFile = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const [file] = event.currentTarget.files ?? [];
    if (!file) return;
    pasted = await file.text();
    await fromText();
  };
</script>

<h2 class="mt-4 mb-1">Import and export</h2>
<button class="btn btn-sm" disabled={doing.busy} onclick={toCurl}>Copy as curl</button>
{#if line}<p class="mt-1"><Copy value={line} label="the curl line" /></p>{/if}
<label class="block mt-2" for="pasted">Paste a curl line, or choose a HAR file</label>
<textarea id="pasted" class="textarea w-full mono" rows="2" bind:value={pasted}></textarea>
<div class="flex gap-2 mt-1">
  <button class="btn btn-sm" disabled={doing.busy || pasted.trim() === ''} onclick={fromText}>Read</button><input
    type="file"
    accept=".har,application/json"
    class="file-input file-input-sm grow"
    aria-label="HAR file"
    onchange={fromFile}
  />
</div>
<ProblemNote problem={doing.problem} />
{#if read}
  {#each read.items as one, at (at)}<div class="py-0.5">
      <button type="button" class="link mono text-left" onclick={() => load(one.call)}>{one.call.method} {one.call.path}</button
      >{#if one.left_out.length > 0}<span class="block text-sm text-base-content/70">left out: {one.left_out.join(', ')}</span>{/if}
    </div>{/each}
  {#each read.refused as one, at (at)}<p class="text-sm text-warning">{one}</p>{/each}
{/if}
