<script lang="ts">
  import type { Attempt } from '../../api/connections.ts';
  import Time from '../ui/Time.svelte';

  /** The masked wire log: one line for each attempt, all of it on demand. */
  const { items }: { items: Attempt[] } = $props();
  const NAMES: Record<string, string> = { tokens: 'renewed', set_up_wrong: 'set-up wrong' };
  const name = (kind: string) => NAMES[kind] ?? kind.replaceAll('_', ' ');
  const lines = (headers: Record<string, string>) =>
    Object.entries(headers)
      .map(([header, value]) => `${header}: ${value}`)
      .join('\n');
  const textOf = (body: unknown) => (typeof body === 'string' ? body : JSON.stringify(body, null, 2));
  const whole = (one: Attempt) =>
    `${one.request.method} ${one.request.url}\n${lines(one.request.headers)}\n\n${lines(one.request.form)}\n\n${
      one.answer ? `HTTP ${one.answer.status}\n${lines(one.answer.headers)}\n\n${textOf(one.answer.body)}` : `no answer: ${one.reason}`
    }`;
</script>

{#if items.length === 0}
  <p class="text-base-content/70">None yet. The last 20 are kept, with secrets masked.</p>
{:else}
  <table class="list-table">
    <thead
      ><tr
        ><th class="w-28">When</th><th class="w-32">Class</th><th>Request and response, masked</th><th class="w-20 text-right">Took</th></tr
      ></thead
    >
    <tbody>
      {#each items as one (one.at)}
        <tr>
          <td data-label="When"><Time at={one.at} /></td>
          <td data-label="Class" class={one.class === 'tokens' ? 'text-success font-semibold' : 'text-warning font-semibold'}
            >{name(one.class)}</td
          >
          <td data-label="Request and response, masked"
            ><details>
              <summary class="cursor-pointer"
                >{one.answer ? `HTTP ${one.answer.status}` : `no answer: ${one.reason}`} from
                <code class="break-all">{one.request.url}</code></summary
              >
              <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
              <pre class="panel mt-1 px-3 py-2 overflow-auto max-h-80 text-[0.82rem]" tabindex="0" aria-label="Request and answer">{whole(
                  one,
                )}</pre>
            </details></td
          >
          <td data-label="Took" class="text-right tabular-nums">{Math.round(one.took_ms)} ms</td>
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
