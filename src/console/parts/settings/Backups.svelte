<script lang="ts">
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call, session } from '../../state/session.svelte.ts';
  import type { Backup } from '../../../api/backups.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Table from '../../ui/Table.svelte';
  import { type Column, TableState } from '../../ui/table.svelte.ts';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import BackupSchedule from './BackupSchedule.svelte';
  import NewBackup from './NewBackup.svelte';

  /** Encrypted copies of everything, made while the service runs. */
  const list = new Query(() => call('listBackups'), 2_000);
  $effect(() => list.start());
  const isRunning = $derived(list.value?.items.some((one) => one.state === 'running') ?? false);
  $effect(() => {
    if (!isRunning) return;
    const timer = setInterval(() => document.hidden || void list.load(), 1_000);
    return () => clearInterval(timer);
  });
  let removing = $state.raw<Backup | null>(null);
  const doing = new Action();
  const remove = () =>
    doing.run(async () => {
      await call('removeBackup', { params: { backup: removing?.id ?? '' } });
      removing = null;
      await list.load();
    });
  const size = (bytes: number) => (bytes < 1_000_000 ? `${Math.ceil(bytes / 1_000)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`);
  const COLUMNS: readonly Column<Backup>[] = [
    { key: 'started', label: 'Started', sortBy: (one) => one.started_at },
    { key: 'state', label: 'State', sortBy: (one) => one.state },
    { key: 'kind', label: 'By', sortBy: (one) => one.requested_by },
    { key: 'lock', label: 'Locked with', sortBy: (one) => one.lock },
    { key: 'size', label: 'Size', sortBy: (one) => one.bytes, class: 'text-right' },
    { key: 'actions', label: '' },
  ];
  const idOf = (one: Backup) => one.id;
  const table = new TableState(COLUMNS, idOf);
  /** The browser fetches the file itself; the service asks who it is first. */
  const fetchFile = (one: Backup) =>
    doing.run(async () => {
      const account = await call('showAccount');
      if (account.confirmed_until === null) await session.confirm();
      window.location.assign(`/api/v1/backups/${one.id}/file`);
    });
</script>

{#snippet cell(one: Backup, key: string)}
  {#if key === 'started'}<Time at={one.started_at} />
  {:else if key === 'state'}
    <span class={one.state === 'done' ? 'text-success' : one.state === 'failed' ? 'text-error font-semibold' : ''}>{one.state}</span>
    {#if one.state === 'running'}<span class="text-base-content/70"> {one.rows.toLocaleString()} rows</span>{/if}
    {#if one.says}<div class="text-sm">{one.says}</div>{/if}
  {:else if key === 'kind'}{one.kind === 'scheduled' ? 'schedule' : one.requested_by}
  {:else if key === 'lock'}{one.lock === 'passphrase' ? 'passphrase' : 'public key'}{one.results ? '' : ', without results'}
  {:else if key === 'size'}{one.state === 'done' ? size(one.bytes) : ''}
  {:else if key === 'actions'}
    <span class="flex gap-1 justify-end">
      {#if one.state === 'done'}<button class="btn btn-xs" disabled={doing.busy} onclick={() => fetchFile(one)}>Download</button>{/if}
      <button class="btn btn-xs" disabled={doing.busy || one.state === 'running'} onclick={() => (removing = one)}>Delete</button>
    </span>
  {/if}
{/snippet}

{#if session.may('listBackups')}
  <p class="mb-3 max-w-2xl">
    A backup holds everything, with the master key, encrypted to a passphrase or a public key. Restore it on a new machine with
    <code>rk restore</code>. <a class="link" href="#/help/how-to.back-up-and-restore">How to back up and restore</a>
  </p>
  <ProblemNote problem={list.problem ?? doing.problem} />
  <BackupSchedule />
  <NewBackup started={() => list.load()} />
  {#if list.value && list.value.items.length > 0}
    <h3 class="font-semibold mt-6 mb-1">Backups</h3>
    <Table caption="Backups" columns={COLUMNS} rows={list.value.items} state={table} {idOf} {cell} />
  {:else if list.value}<p class="mt-6">No backups yet. Make one above, and set a schedule.</p>{/if}
{:else}<p>Only administrators make and restore backups.</p>{/if}
<Confirm
  bind:open={() => removing !== null, (open) => (removing = open ? removing : null)}
  title="Delete this backup?"
  action="Delete"
  busy={doing.busy}
  problem={doing.problem}
  run={remove}><p class="mono break-all">{removing?.file}</p></Confirm
>
