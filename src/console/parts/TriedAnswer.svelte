<script lang="ts">
  import type { TriedCall } from '../../api/trying.ts';
  import Copy from '../ui/Copy.svelte';
  import DiagnosisNote from './DiagnosisNote.svelte';
  import JsonView from './JsonView.svelte';
  import Time from '../ui/Time.svelte';

  /** The answer of a call that was tried: verdict first, then status, headers, body, and the call as it can be taken elsewhere. */
  const { answer }: { answer: TriedCall } = $props();
  const good = $derived(answer.status !== null && answer.status < 300 && !answer.diagnosis);
  const har = $derived(`data:application/json;charset=utf-8,${encodeURIComponent(JSON.stringify(answer.har, null, 2))}`);
</script>

{#if answer.diagnosis}<DiagnosisNote diagnosis={answer.diagnosis} />{/if}
<div class="panel overflow-hidden mb-3">
  <p class="flex flex-wrap gap-x-3 px-3 py-1.5 bg-base-200 border-b border-base-300">
    <span class={['font-semibold', good ? 'text-success' : 'text-error']}
      >{answer.status === null ? `No answer: ${answer.reason}` : `${answer.status} ${good ? 'it works' : 'not as wished'}`}</span
    >
    <code class="break-all">{answer.method} {answer.url}</code><span class="ml-auto text-base-content/70"
      >{answer.bytes ?? 0} bytes, {Math.round(answer.took_ms)} ms, <Time at={answer.at} /></span
    >
  </p>
  <JsonView body={answer.body} />
  {#if answer.cut}<p class="px-3 py-1 text-warning">Cut at 64 kB.</p>{/if}
  {#if answer.page}<p class="px-3 py-1 font-semibold" role="status">{answer.page}</p>{/if}
</div>
<details class="mb-2">
  <summary class="cursor-pointer">Headers of the answer ({answer.headers?.length ?? 0}), and what was sent</summary>
  <div class="grid lg:grid-cols-2 gap-4 mt-1">
    <dl class="facts">
      {#each answer.headers ?? [] as one, at (at)}<dt><code>{one.name}</code></dt>
        <dd class="break-all mono">{one.value}</dd>{/each}
    </dl>
    <dl class="facts">
      {#each answer.request.headers as one, at (at)}<dt><code>{one.name}</code></dt>
        <dd class="break-all mono">{one.value}</dd>{/each}{#if answer.request.body}<dt>body</dt>
        <dd><pre class="whitespace-pre-wrap">{answer.request.body}</pre></dd>{/if}
    </dl>
  </div>
</details>
<p class="mb-1">Copy as curl, through the relay: <Copy value={answer.curl} label="the curl line" /></p>
<p><a class="link" href={har} download={`${answer.method.toLowerCase()}-call.har`}>Save call and answer as a HAR file</a>, masked.</p>
