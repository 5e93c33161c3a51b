<script lang="ts">
  import Form from '../ui/Form.svelte';
  import { APPROVALS } from '../../api/choices.ts';
  import type { Client } from '../../api/clients.ts';
  import { Action } from '../state/query.svelte.ts';
  import { call } from '../state/session.svelte.ts';
  import Field from '../ui/Field.svelte';
  import Standing from './client/Standing.svelte';
  import ProblemNote from './ProblemNote.svelte';

  /** How a client stands at the provider: approval, reach, what is registered, how it authenticates, how strong it is. */
  const { client: c, done }: { client: Client; done: () => unknown } = $props();
  const start = () => ({
    approval: c.approval,
    reach: c.reach,
    method: c.method,
    accounts: c.listed_accounts.join('\n'),
    scopes: c.registered_scopes.join('\n'),
    domains: (c.registering.domains_there ?? []).join(' '),
    facts: { ...c.registering },
  });
  let form = $state(start());
  let editing = $state(false);
  const saving = new Action();
  const lines = (text: string) => text.split(/[\s,;]+/).filter(Boolean);
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void saving
      .run(async () => {
        const body = {
          revision: c.revision,
          approval: form.approval,
          reach: form.reach,
          method: form.method,
          listed_accounts: lines(form.accounts),
          registered_scopes: lines(form.scopes),
          registering: {
            requested_on: form.facts.requested_on || null,
            expected_on: form.facts.expected_on || null,
            request_form: form.facts.request_form,
            notes: form.facts.notes,
            own_page: form.facts.own_page,
            domains_there: form.domains.trim() ? lines(form.domains) : null,
            registered_by: form.facts.registered_by,
          },
        };
        await call('changeClient', { params: { provider: c.provider, client: c.name }, body });
        await done();
      })
      .then((good) => {
        if (good) editing = false;
      });
  };
</script>

{#if editing}
  <Form {saving} onsubmit={submit} class="max-w-2xl">
    <div class="grid md:grid-cols-3 gap-x-4">
      <Field id="approval" label="Approval"
        ><select id="approval" class="select w-full" bind:value={form.approval}
          >{#each APPROVALS as one (one)}<option value={one}>{one.replaceAll('_', ' ')}</option>{/each}</select
        ></Field
      >
      <Field id="reach" label="Reach"
        ><select id="reach" class="select w-full" bind:value={form.reach}
          ><option value="listed">listed accounts</option><option value="organization">the own organization</option><option value="anyone"
            >anyone</option
          ></select
        ></Field
      >
      <Field id="method" label="Authenticates by"
        ><select id="method" class="select w-full" bind:value={form.method}
          >{#each c.methods as one (one)}<option value={one}>{one}</option>{/each}</select
        ></Field
      >
    </div>
    <div class="grid md:grid-cols-2 gap-x-4">
      <Field id="registered" label="Scopes registered at the provider" help="Pasted in any form."
        ><textarea id="registered" class="textarea w-full mono h-24" spellcheck="false" bind:value={form.scopes}></textarea></Field
      >
      <Field id="listed" label="Listed accounts" help="Who may sign in while it is open to listed accounts only."
        ><textarea id="listed" class="textarea w-full h-24" bind:value={form.accounts}></textarea></Field
      >
    </div>
    <div class="grid md:grid-cols-3 gap-x-4">
      <Field id="asked-on" label="Approval asked on"
        ><input id="asked-on" type="date" class="input w-full" bind:value={form.facts.requested_on} /></Field
      >
      <Field id="expected-on" label="Expected by"
        ><input id="expected-on" type="date" class="input w-full" bind:value={form.facts.expected_on} /></Field
      >
      <Field id="asked-by" label="By which form"
        ><input id="asked-by" class="input w-full" maxlength="120" bind:value={form.facts.request_form} /></Field
      >
      <Field id="own-page" label="Its own page at the provider"
        ><input id="own-page" class="input w-full mono" bind:value={form.facts.own_page} /></Field
      >
      <Field id="registered-by" label="Registered by"
        ><input id="registered-by" class="input w-full" maxlength="120" bind:value={form.facts.registered_by} /></Field
      >
    </div>
    <Field id="domains" label="Domains listed at the provider" help="For redirect URIs, where the provider wants them listed."
      ><input id="domains" class="input w-full mono" bind:value={form.domains} /></Field
    >
    <Field id="notes" label="Notes"
      ><textarea id="notes" class="textarea w-full h-20" maxlength="2000" bind:value={form.facts.notes}></textarea></Field
    >
    <ProblemNote problem={saving.problem} />
    <button class="btn btn-primary btn-sm" disabled={saving.busy}>Save</button>
    <button type="button" class="btn btn-sm" onclick={() => (editing = false)}>Cancel</button>
  </Form>
{:else}
  <Standing client={c} />
  <button
    class="btn btn-xs mt-2"
    onclick={() => {
      form = start();
      editing = true;
    }}>Change</button
  >
{/if}
