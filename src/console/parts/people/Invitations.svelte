<script lang="ts">
  import type { Invitation } from '../../../api/people.ts';
  import { INVITATION_WORDS } from '../../../api/vocabulary.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { INVITATION_COLUMNS, invitationTable } from '../../state/people.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Cut from '../../ui/Cut.svelte';
  import Table from '../../ui/Table.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import VocabularyMark from '../VocabularyMark.svelte';

  /** Links that were made, newest first; the links themselves are never shown again. */
  const { connection }: { connection: string } = $props();
  const named = $derived(connection);
  const list = new Query(() => call('listInvitations', { params: { connection: named }, query: {} }), 3_000);
  $effect(() => {
    void named;
    return list.start();
  });
  const table = invitationTable();
  const items = $derived(list.value?.items ?? []);
  const idOf = (one: Invitation) => one.id;
  const isOpen = (one: Invitation) => one.state === 'sent' || one.state === 'opened';
  let ending = $state.raw<Invitation | null>(null);
  const doing = new Action();
  const revoke = () =>
    doing.run(async () => {
      await call('revokeInvitation', { params: { invitation: ending?.id ?? '' } });
      ending = null;
      await list.load();
    });
</script>

{#snippet cell(one: Invitation, key: string)}
  {#if key === 'person'}<a class="link" href={`#/connections/${one.handle}`}><Cut text={one.name ?? one.person} /></a>
    <div class="text-sm font-normal text-base-content/70"><Cut text={one.purpose} /></div>
  {:else if key === 'for'}{one.caller ?? one.created_by}
  {:else if key === 'state'}<VocabularyMark word={INVITATION_WORDS[one.state]} />
  {:else if key === 'made'}<Time at={one.created_at} />
  {:else if key === 'expires'}<Time at={one.expires_at} />
  {:else if isOpen(one)}<button class="btn btn-xs" onclick={() => (ending = one)}>Revoke…</button>{/if}
{/snippet}

<ProblemNote problem={list.problem} />
{#if list.value && items.length === 0}<p>No invitations yet. Make one under People, or let the application do it with its own key.</p>
{:else if list.value}<Table caption="Invitations" columns={INVITATION_COLUMNS} rows={items} state={table} {idOf} {cell} />
{:else if !list.problem}<p aria-busy="true">Loading…</p>{/if}
<Confirm
  bind:open={() => ending !== null, (open) => (ending = open ? ending : null)}
  title={`Revoke the invitation of ${ending?.name ?? ending?.person ?? ''}?`}
  action="Revoke"
  busy={doing.busy}
  problem={doing.problem}
  run={revoke}
>
  <p>Its link stops working at once. What was connected through it stays.</p>
</Confirm>
