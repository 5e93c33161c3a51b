<script lang="ts">
  import type { OperatorSummary } from '../../../api/operators.ts';
  import type { Role } from '../../../api/roles.ts';
  import { OPERATOR_STATE_WORDS } from '../../../api/vocabulary.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call, session } from '../../state/session.svelte.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Copy from '../../ui/Copy.svelte';
  import Table from '../../ui/Table.svelte';
  import { type Column, TableState } from '../../ui/table.svelte.ts';
  import Time from '../../ui/Time.svelte';
  import { notify } from '../../ui/toast.ts';
  import ProblemNote from '../ProblemNote.svelte';
  import InviteOperator from './InviteOperator.svelte';
  import OperatorEdit from './OperatorEdit.svelte';

  /** Who signs in here, and what they may do. */
  const list = new Query(() => call('listOperators'), 5_000);
  $effect(() => list.start());
  let link = $state.raw<{ operator: string; url: string; ends_at: string } | null>(null);
  let editing = $state<string | null>(null);
  let removing = $state<string | null>(null);
  const doing = new Action();
  const mayChange = $derived(session.may('changeOperator'));
  const act = (work: () => Promise<unknown>) =>
    doing.run(async () => {
      await work();
      await list.load();
    });
  const invite = (name: string, role: Role, labels: string[]) =>
    act(async () => void (link = await call('inviteOperator', { body: { name, role, labels } })));
  const reset = (operator: string) => act(async () => void (link = await call('resetOperator', { params: { operator } })));
  const change = (operator: string, body: { name?: string; role?: Role; labels?: string[]; disabled?: boolean }) =>
    act(async () => {
      await call('changeOperator', { params: { operator }, body });
      editing = null;
      notify(`${body.name ?? operator}: saved.`);
    });
  const remove = () =>
    act(async () => {
      await call('removeOperator', { params: { operator: removing ?? '' } });
      removing = null;
    });
  const COLUMNS: readonly Column<OperatorSummary>[] = [
    { key: 'name', label: 'Operator', sortBy: (one) => one.name, class: 'font-semibold' },
    { key: 'role', label: 'Role', sortBy: (one) => one.role },
    { key: 'labels', label: 'Limited to' },
    { key: 'state', label: 'State', sortBy: (one) => one.state },
    { key: 'factor', label: 'Second factor', sortBy: (one) => String(one.second_factor) },
    { key: 'seen', label: 'Last seen', sortBy: (one) => one.last_seen_at ?? '' },
    { key: 'actions', label: '' },
  ];
  const idOf = (one: OperatorSummary) => one.name;
  const table = new TableState(COLUMNS, idOf);
</script>

{#snippet cell(one: OperatorSummary, key: string)}
  {#if key === 'name'}{one.name}{#if one.source === 'identity_provider'}<span class="font-normal text-base-content/70">
        at the identity provider</span
      >{/if}
  {:else if key === 'role'}{one.role}
  {:else if key === 'labels'}{one.labels.join(', ') || 'no limit'}
  {:else if key === 'state'}<span class={one.state === 'active' ? 'text-success' : 'text-base-content/70'}
      >{OPERATOR_STATE_WORDS[one.state]}</span
    >
  {:else if key === 'factor'}<span class={one.second_factor ? '' : 'text-warning'}>{one.second_factor ? 'yes' : 'no'}</span>
  {:else if key === 'seen'}{#if one.last_seen_at}<Time at={one.last_seen_at} />{:else}never{/if}
  {:else if key === 'actions' && mayChange}
    <span class="flex flex-wrap gap-1 justify-end">
      <button class="btn btn-xs" disabled={doing.busy} onclick={() => (editing = editing === one.name ? null : one.name)}>Edit</button>
      <button class="btn btn-xs" disabled={doing.busy} onclick={() => change(one.name, { disabled: one.state !== 'disabled' })}
        >{one.state === 'disabled' ? 'Enable' : 'Disable'}</button
      >
      {#if one.source === 'local' && one.state !== 'disabled'}
        <button class="btn btn-xs" disabled={doing.busy} onclick={() => reset(one.name)}>New link</button>
      {/if}
      <button class="btn btn-xs" disabled={doing.busy} onclick={() => (removing = one.name)}>Remove</button>
    </span>
  {/if}
{/snippet}

<ProblemNote problem={list.problem ?? doing.problem} />
{#if !mayChange}<p class="mb-3 text-base-content/70">Only administrators change operators.</p>{/if}
{#if link}
  <section class="border-l-4 border-primary bg-base-200 px-4 py-3 mb-4 max-w-3xl" aria-label="One-time link">
    <p>
      Give this link to <b>{link.operator}</b>. It sets a password, works once, expires <Time at={link.ends_at} />, and is shown only now.
    </p>
    <Copy value={link.url} label="the link" />
  </section>
{/if}
<Table caption="Operators" columns={COLUMNS} rows={list.value?.items ?? []} state={table} {idOf} {cell} />
{#each (list.value?.items ?? []).filter((one) => one.name === editing) as one (one.name)}
  <OperatorEdit {one} busy={doing.busy} save={(set) => change(one.name, set)} cancel={() => (editing = null)} />
{/each}
{#if mayChange}<InviteOperator busy={doing.busy} {invite} />{/if}
<Confirm
  bind:open={() => removing !== null, (open) => (removing = open ? removing : null)}
  title={`Remove ${removing}?`}
  action="Remove"
  busy={doing.busy}
  problem={doing.problem}
  run={remove}><p>Sessions and personal tokens end at once. The name stays in the activity log and cannot be used again.</p></Confirm
>
