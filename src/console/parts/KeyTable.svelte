<script lang="ts">
  import type { Caller, NewKey } from '../../api/callers.ts';
  import { clock } from '../state/clock.svelte.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import Time from '../ui/Time.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** A caller's keys. Several are valid at once, so that one can be replaced without a gap. */
  const { caller: c, done, made }: { caller: Caller; done: () => unknown; made: (key: NewKey) => void } = $props();
  let asking = $state<string | null>(null);
  let adding = $state(false);
  let label = $state('');
  let until = $state('');
  const doing = new Action();
  const over = (key: Caller['keys'][number]) => key.retired_at !== null && Date.parse(key.retired_at) <= clock.now;
  const add = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      made(
        await call('addKey', {
          params: { caller: c.name },
          body: { label: label.trim(), ends_at: until === '' ? null : new Date(`${until}T00:00:00`).toISOString() },
        }),
      );
      [adding, label, until] = [false, '', ''];
      await done();
    });
  };
  const retire = (key: string) =>
    doing.run(async () => {
      await call('retireKey', { params: { caller: c.name, key } });
      asking = null;
      await done();
    });
</script>

<table class="list-table max-w-5xl mb-2">
  <thead
    ><tr><th>Starts with</th><th>Label</th><th>Made</th><th>Last used</th><th>State</th><th><span class="sr-only">Retire</span></th></tr
    ></thead
  >
  <tbody>
    {#each c.keys as one (one.id)}
      <tr>
        <td data-label="Starts with" class="mono">{one.starts}…</td><td data-label="Label">{one.label}</td><td data-label="Made"
          ><Time at={one.added_at} /></td
        ><td data-label="Last used"><Time at={one.last_used_at} none="never" /></td>
        <td data-label="State"
          >{#if over(one)}retired <Time at={one.retired_at} />{:else}in use{#if one.retired_at}, expires <Time
                at={one.retired_at}
              />{/if}{/if}</td
        >
        <td class="text-right"
          >{#if !over(one)}{#if asking === one.id}It stops working at once. <button
                class="btn btn-xs btn-error"
                disabled={doing.busy}
                onclick={() => retire(one.id)}>Retire it</button
              > <button class="btn btn-xs" onclick={() => (asking = null)}>Cancel</button>{:else}<button
                class="btn btn-xs"
                onclick={() => (asking = one.id)}>Retire…</button
              >{/if}{/if}</td
        >
      </tr>
    {/each}
  </tbody>
</table>
<ProblemNote problem={doing.problem} />
{#if adding}
  <form class="panel px-4 py-3 max-w-md" onsubmit={add} aria-label="Add a key">
    <Field id="key-label" label="Label" help="To tell it apart, such as where it is pasted."
      ><input id="key-label" class="input w-full" maxlength="60" bind:value={label} /></Field
    >
    <Field id="key-until" label="Stops working on" help="Empty: when you retire it."
      ><input id="key-until" class="input" type="date" bind:value={until} /></Field
    >
    <button class="btn btn-primary btn-sm" disabled={doing.busy}>Make the key</button>
    <button type="button" class="btn btn-sm" onclick={() => (adding = false)}>Cancel</button>
  </form>
{:else}<button class="btn btn-sm" onclick={() => (adding = true)}>Add a key…</button>{/if}
