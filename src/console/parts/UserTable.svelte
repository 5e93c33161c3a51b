<script lang="ts">
  import type { Connection } from '../../api/connections.ts';
  import Time from '../ui/Time.svelte';
  import RelayedNote from './RelayedNote.svelte';

  /** Who uses this? Everyone who may, with what they may do and what they did lately. */
  const { users }: { users: Connection['callers_last_used'] } = $props();
</script>

{#if users.length === 0}<p>
    No caller may use it yet. <a class="link link-primary" href="#/callers">Add a caller, or permit it to one</a>.
  </p>
{:else}
  <table class="list-table max-w-5xl">
    <thead
      ><tr
        ><th>Caller</th><th>Permissions</th><th class="w-24 text-right">Tokens</th><th class="w-24 text-right">Relayed</th><th
          class="w-24 text-right">Rejected</th
        ><th class="w-28">Last used</th></tr
      ></thead
    >
    <tbody
      >{#each users as one (one.caller)}<tr
          ><td data-label="Caller"><a class="link font-semibold" href={`#/callers/${one.caller}`}>{one.caller}</a></td><td
            data-label="Permissions">{one.says}<RelayedNote relay={one.relay} /></td
          ><td data-label="Tokens" class="text-right tabular-nums">{one.tokens_last_hour}</td><td
            data-label="Relayed"
            class="text-right tabular-nums">{one.relayed_last_hour}</td
          ><td data-label="Rejected" class={['text-right tabular-nums', one.refused_last_hour > 0 && 'text-warning font-semibold']}
            >{one.refused_last_hour}</td
          ><td data-label="Last used"><Time at={one.at} none="never" /></td></tr
        >{/each}</tbody
    >
  </table>
  <p class="text-sm text-base-content/70">Numbers of the last hour.</p>
{/if}
