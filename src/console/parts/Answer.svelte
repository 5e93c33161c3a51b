<script lang="ts">
  import type { CallAnswer } from '../../api/common.ts';
  import DiagnosisNote from './DiagnosisNote.svelte';
  import Time from '../ui/Time.svelte';

  /** The answer of an API call: status, time taken, body. */
  const { answer }: { answer: CallAnswer } = $props();
  const good = $derived(answer.status !== null && answer.status < 300);
</script>

{#if answer.diagnosis}<DiagnosisNote diagnosis={answer.diagnosis} />{/if}
<div class="panel overflow-hidden">
  <p class="flex flex-wrap gap-x-3 px-3 py-1.5 bg-base-200 border-b border-base-300">
    <span class={['font-semibold', good ? 'text-success' : 'text-error']}
      >{answer.status === null ? `No answer: ${answer.reason}` : `${answer.status} ${good ? 'it works' : 'rejected'}`}</span
    >
    <code class="break-all">{answer.method} {answer.url}</code><span class="ml-auto text-base-content/70"
      >{answer.took_ms} ms, <Time at={answer.at} /></span
    >
  </p>
  {#if answer.page}<p class="px-3 py-1 font-semibold">{answer.page}</p>{/if}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <pre class="px-3 py-2 overflow-auto max-h-64 text-[0.82rem]" tabindex="0" aria-label="Body of the answer">{answer.body ||
      '(empty)'}{answer.cut ? '\n… cut at 64 kB' : ''}</pre>
</div>
