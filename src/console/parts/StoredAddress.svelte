<script lang="ts">
  import { MASK } from '../../core/calls/stored-values.ts';
  import { Action } from '../state/query.svelte.ts';
  import ProblemNote from './ProblemNote.svelte';

  /** An address whose path may be the key to it: shown when someone asks, which Activity records. */
  const { url, show }: { url: string; show(): Promise<{ url: string | null }> } = $props();
  let whole = $state<string | null>(null);
  const doing = new Action();
  const look = () => doing.run(async () => void (whole = (await show()).url));
</script>

<code class="break-all">{whole ?? url}</code>{#if whole === null && url.includes(MASK)}
  <button class="btn btn-xs" disabled={doing.busy} title="Activity records who looked" onclick={look}>Show address</button>{/if}
<ProblemNote problem={doing.problem} />
