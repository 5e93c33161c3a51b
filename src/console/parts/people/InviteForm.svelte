<script lang="ts">
  import { onMount } from 'svelte';
  import type { Invited } from '../../../api/people.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { InviteDraft } from '../../state/people.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Field from '../../ui/Field.svelte';
  import Form from '../../ui/Form.svelte';
  import ProblemNote from '../ProblemNote.svelte';
  import InvitationLink from './InvitationLink.svelte';

  /** A link for one person. It is shown once. */
  const { connection }: { connection: string } = $props();
  const callers = new Query(() => call('listCallers'));
  onMount(() => callers.start());
  const draft = new InviteDraft();
  const saving = new Action();
  let made = $state.raw<Invited | null>(null);
  let returns = $state.raw<string[]>([]);
  const choose = async () => {
    draft.returnTo = '';
    returns = draft.caller ? (await call('showCaller', { params: { caller: draft.caller } })).redirect_uris : [];
  };
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving.run(async () => {
      made = await call('invitePerson', { params: { connection }, body: draft.body() });
    });
  };
</script>

{#if made}<InvitationLink invited={made} close={() => (made = null)} />
{:else}
  <Form {saving} onsubmit={submit} class="panel px-4 py-3 mb-4 max-w-2xl">
    <Field id="person" label="Person" problem={saving.problem} path="person" help="The application’s own key for them, such as member-17."
      ><input id="person" class="input w-full mono" required maxlength="200" bind:value={draft.person} /></Field
    >
    <Field id="person-name" label="Name" help="Shown on the page, so that whoever gets the link by mistake notices."
      ><input id="person-name" class="input w-full" maxlength="120" bind:value={draft.name} /></Field
    >
    <Field id="purpose" label="Purpose" problem={saving.problem} path="purpose" help="Why they are asked, in words for them."
      ><input id="purpose" class="input w-full" required maxlength="500" bind:value={draft.purpose} /></Field
    >
    <Field id="invite-caller" label="Application"
      ><select id="invite-caller" class="select w-full" bind:value={draft.caller} onchange={choose}
        ><option value="">None: you ask yourself</option>{#each callers.value?.items ?? [] as one (one.name)}<option value={one.name}
            >{one.title || one.name}</option
          >{/each}</select
      ></Field
    >
    {#if returns.length > 0}<Field id="return-to" label="Back to"
        ><select id="return-to" class="select w-full" bind:value={draft.returnTo}
          ><option value="">Stay on our page</option>{#each returns as address (address)}<option>{address}</option>{/each}</select
        ></Field
      >{/if}
    <Field id="invite-account" label="Expected account" help="Optional. Another account is not accepted."
      ><input id="invite-account" class="input w-full" maxlength="200" bind:value={draft.account} /></Field
    >
    <Field id="invite-days" label="Days the link is good"
      ><input id="invite-days" type="number" min="1" max="90" class="input w-28" bind:value={draft.days} /></Field
    >
    <ProblemNote problem={saving.problem} />
    <button class="btn btn-primary btn-sm" disabled={saving.busy}>Make the link</button>
  </Form>
{/if}
