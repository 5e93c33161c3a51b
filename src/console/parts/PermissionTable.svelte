<script lang="ts">
  import { namesInWords, usesUnder } from '../../api/caller-words.ts';
  import type { Caller } from '../../api/callers.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Time from '../ui/Time.svelte';
  import PermitForm from './PermitForm.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** What may this use? Each permission in words, with what it opens now; and one more. */
  const {
    caller: c,
    connections,
    done,
  }: { caller: Caller; connections: { name: string; provider_title: string; labels: string[] }[]; done: () => unknown } = $props();
  let asking = $state<string | null>(null);
  let adding = $state(false);
  const doing = new Action();
  const withdraw = (permission: string) =>
    doing.run(async () => {
      await call('withdrawPermission', { params: { caller: c.name, permission } });
      asking = null;
      await done();
    });
</script>

{#if c.permissions.length === 0}<p class="mb-2">No permissions yet. Permit a connection, or all connections with a label.</p>
{:else}
  <table class="list-table max-w-5xl mb-2">
    <thead><tr><th>Connection or label</th><th>Permissions</th><th class="w-72"><span class="sr-only">Withdraw</span></th></tr></thead>
    <tbody>
      {#each c.permissions as one (one.id)}
        <tr>
          <td data-label="Connection or label"
            >{#if one.connection}<a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a>{:else}label <code
                >{one.label}</code
              >
              <div class="text-sm text-base-content/70">
                {one.covers.length === 0 ? 'no connection carries it now' : `opens ${namesInWords(one.covers, one.covers_total)}`}
              </div>{/if}</td
          >
          <td data-label="Permissions">{one.says}</td>
          <td class="text-right">
            {#if asking === one.id}<span class="text-sm"
                >{#each usesUnder(c, one) as use (use.connection)}{use.connection} was used <Time at={use.last_at} />.
                {:else}Not used in the last day.
                {/each}</span
              ><button class="btn btn-xs btn-error" disabled={doing.busy} onclick={() => withdraw(one.id)}>Withdraw</button>
              <button class="btn btn-xs" onclick={() => (asking = null)}>Cancel</button>
            {:else}<button class="btn btn-xs" onclick={() => (asking = one.id)}>Withdraw…</button>{/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
<ProblemNote problem={doing.problem} />
{#if adding}<PermitForm
    caller={c.name}
    {connections}
    done={async () => {
      adding = false;
      await done();
    }}
    cancel={() => (adding = false)}
  />
{:else}<button class="btn btn-sm" onclick={() => (adding = true)}>Add permission</button>{/if}
