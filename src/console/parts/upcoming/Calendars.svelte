<script lang="ts">
  import type { AddedCalendar } from '../../../api/upcoming.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Copy from '../../ui/Copy.svelte';
  import Field from '../../ui/Field.svelte';
  import Form from '../../ui/Form.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  /** Private addresses at which calendar programs subscribe. */
  const list = new Query(() => call('listCalendars'));
  $effect(() => list.start());
  const saving = new Action();
  let name = $state('');
  let made = $state.raw<AddedCalendar | null>(null);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      made = await call('addCalendar', { body: { name: name.trim() } });
      name = '';
      await list.load();
    });
  };
  const remove = (id: string) =>
    saving.run(async () => {
      await call('removeCalendar', { params: { calendar: id } });
      await list.load();
    });
</script>

<h2 class="mt-6 mb-1">In your calendar</h2>
{#if made}
  <p class="border-l-4 border-success bg-base-200 px-4 py-3 mb-2" role="status">
    Subscribe to this address. It is shown this once; whoever has it can read this page’s dates.<br /><Copy
      value={made.url}
      label="the address"
    />
  </p>
{/if}
<ProblemNote problem={list.problem ?? saving.problem} />
{#each list.value?.items ?? [] as one (one.id)}
  <p class="flex flex-wrap items-center gap-x-3 mb-1">
    <strong>{one.name}</strong><span class="text-base-content/70"
      >by {one.created_by}, read <Time at={one.last_read_at} none="never" /></span
    >
    <button class="btn btn-xs" disabled={saving.busy} onclick={() => remove(one.id)}>Revoke {one.name}</button>
  </p>
{/each}
<Form {saving} onsubmit={submit} class="flex items-end gap-2 max-w-md">
  <Field id="calendar-name" label="New calendar address" problem={saving.problem} path="name"
    ><input
      id="calendar-name"
      class="input input-sm mono"
      required
      placeholder="who subscribes"
      pattern="[a-z0-9][a-z0-9._\-]*"
      bind:value={name}
    /></Field
  >
  <button class="btn btn-sm mb-3" disabled={saving.busy}>Add address</button>
</Form>
