<script lang="ts">
  import type { Caller } from '../../api/callers.ts';
  import MinuteBars from './MinuteBars.svelte';
  import Time from '../ui/Time.svelte';
  import RelayedNote from './RelayedNote.svelte';

  /** What a caller did in the last day, connection by connection: what stops when it ends. */
  const { uses, total }: { uses: Caller['uses']; total: number } = $props();
</script>

{#if uses.length === 0}<p>Not used in the last day. Nothing that ran since then stops when it expires.</p>
{:else}
  <table class="list-table max-w-5xl">
    <thead
      ><tr
        ><th>Connection</th><th class="w-24 text-right">Tokens</th><th class="w-24 text-right">Relayed</th><th class="w-24 text-right"
          >Rejected</th
        ><th class="w-52">Last hour</th><th class="w-28">Last</th></tr
      ></thead
    >
    <tbody
      >{#each uses as one (one.connection)}<tr
          ><td data-label="Connection"
            ><a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a><RelayedNote relay={one.relay} /></td
          ><td data-label="Tokens" class="text-right tabular-nums">{one.tokens}</td><td data-label="Relayed" class="text-right tabular-nums"
            >{one.relayed}</td
          ><td data-label="Rejected" class={['text-right tabular-nums', one.refused > 0 && 'text-warning font-semibold']}>{one.refused}</td
          ><td data-label="Last hour"><MinuteBars minutes={one.minutes} /></td><td data-label="Last"><Time at={one.last_at} /></td></tr
        >{/each}</tbody
    >
  </table>
  {#if total > uses.length}<p class="text-sm text-base-content/70 mt-1">
      The {uses.length} connections that it used last, of {total.toLocaleString('en')}.
    </p>{/if}
{/if}
