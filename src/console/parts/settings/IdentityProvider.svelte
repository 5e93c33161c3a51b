<script lang="ts">
  import { ROLES, type Role } from '../../../api/roles.ts';
  import { Action, Query } from '../../state/query.svelte.ts';
  import { call, session } from '../../state/session.svelte.ts';
  import Confirm from '../../ui/Confirm.svelte';
  import Copy from '../../ui/Copy.svelte';
  import Field from '../../ui/Field.svelte';
  import { notify } from '../../ui/toast.ts';
  import ProblemNote from '../ProblemNote.svelte';

  /** Operators sign in at the company's own OpenID Connect provider; its groups decide their roles. */
  const seen = new Query(() => call('showIdentityProvider'));
  $effect(() => seen.start());
  let editing = $state(false);
  let removing = $state(false);
  let form = $state({ title: '', issuer: '', client_id: '', secret: '', scopes: 'profile email', claim: 'groups' });
  let rules = $state<{ group: string; role: Role; labels: string }[]>([]);
  const doing = new Action();
  const edit = () => {
    const p = seen.value?.provider;
    form = {
      title: p?.title ?? '',
      issuer: p?.issuer ?? '',
      client_id: p?.client_id ?? '',
      secret: '',
      scopes: p?.scopes.join(' ') ?? 'profile email',
      claim: p?.groups_claim ?? 'groups',
    };
    rules = p?.rules.map((one) => ({ ...one, labels: one.labels.join(', ') })) ?? [{ group: '', role: 'viewer', labels: '' }];
    editing = true;
  };
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const save = (event: SubmitEvent) => {
    event.preventDefault();
    void doing.run(async () => {
      await call('setIdentityProvider', {
        body: {
          title: form.title,
          issuer: form.issuer.trim(),
          client_id: form.client_id,
          scopes: words(form.scopes),
          groups_claim: form.claim,
          rules: rules.filter((one) => one.group.trim() !== '').map((one) => ({ ...one, labels: words(one.labels) })),
          ...(form.secret ? { client_secret: form.secret } : {}),
        },
      });
      editing = false;
      notify('Saved.');
      await seen.load();
    });
  };
  const remove = () =>
    doing.run(async () => {
      await call('removeIdentityProvider');
      removing = false;
      await seen.load();
    });
</script>

{#if !session.may('showIdentityProvider')}<p>Only administrators set up sign-in.</p>
{:else if seen.value}
  {@const all = seen.value}
  <p class="mb-3 max-w-2xl">
    Operators sign in at your company’s OpenID Connect provider; their groups at the provider decide their roles here. Local administrators
    keep their passwords, for the day on which it is down. <a class="link" href="#/help/how-to.sign-in-with-your-identity-provider"
      >How to set it up</a
    >
  </p>
  {#each all.warnings as one (one)}<p class="border-l-4 border-warning bg-base-200 px-3 py-1 mb-2">{one}</p>{/each}
  <dl class="facts max-w-3xl">
    <dt>Redirect URI</dt>
    <dd><Copy value={all.redirect_uri} label="redirect URI" /></dd>
    <dt>Back-channel sign-out</dt>
    <dd><Copy value={all.logout_uri} label="sign-out address" /></dd>
    {#if all.provider}
      <dt>Provider</dt>
      <dd><b>{all.provider.title}</b> <span class="mono">{all.provider.issuer}</span></dd>
      <dt>Client</dt>
      <dd><span class="mono">{all.provider.client_id}</span>, {all.provider.has_secret ? 'with a secret' : 'without a secret'}</dd>
      <dt>Roles by group</dt>
      <dd>
        {#each all.provider.rules as one (one.group)}<div>
            {one.group}: <b>{one.role}</b>{one.labels.length > 0 ? `, limited to ${one.labels.join(', ')}` : ''}
          </div>{/each}
      </dd>
    {/if}
  </dl>
  <ProblemNote problem={seen.problem ?? doing.problem} />
  {#if editing}
    <form class="panel px-4 py-3 my-3 max-w-2xl" onsubmit={save}>
      <Field id="idp-title" label="Name" help="On the sign-in page"
        ><input id="idp-title" class="input w-full" required maxlength="60" bind:value={form.title} /></Field
      >
      <Field id="idp-issuer" label="Issuer" help="To the letter, as its metadata states"
        ><input id="idp-issuer" type="url" class="input w-full" required bind:value={form.issuer} /></Field
      >
      <Field id="idp-client" label="Client ID"
        ><input id="idp-client" class="input w-full mono" required autocomplete="off" bind:value={form.client_id} /></Field
      >
      <Field
        id="idp-secret"
        label="Client secret"
        help={all.provider?.has_secret ? 'Leave empty to keep it' : 'Leave empty for a public client'}
        ><input id="idp-secret" type="password" class="input w-full" autocomplete="off" bind:value={form.secret} /></Field
      >
      <div class="grid sm:grid-cols-2 gap-x-3">
        <Field id="idp-scopes" label="Scopes besides openid"><input id="idp-scopes" class="input w-full" bind:value={form.scopes} /></Field>
        <Field id="idp-claim" label="Claim with the groups"
          ><input id="idp-claim" class="input w-full" required bind:value={form.claim} /></Field
        >
      </div>
      <fieldset class="mb-3">
        <legend class="font-semibold mb-1">Roles by group</legend>
        {#each rules as one, at (at)}
          <div class="flex flex-wrap gap-2 mb-1">
            <input class="input input-sm grow" aria-label={`Group ${at + 1}`} placeholder="group" bind:value={one.group} />
            <select class="select select-sm w-36" aria-label={`Role of group ${at + 1}`} bind:value={one.role}
              >{#each ROLES as role (role)}<option value={role}>{role}</option>{/each}</select
            >
            <input
              class="input input-sm w-44"
              aria-label={`Labels of group ${at + 1}`}
              placeholder="labels, or no limit"
              bind:value={one.labels}
            />
          </div>
        {/each}
        <button type="button" class="btn btn-xs" onclick={() => (rules = [...rules, { group: '', role: 'viewer', labels: '' }])}
          >Add group</button
        >
      </fieldset>
      <button class="btn btn-primary btn-sm" disabled={doing.busy}>Save</button>
      <button type="button" class="btn btn-sm" onclick={() => (editing = false)}>Cancel</button>
    </form>
  {:else}
    <button class="btn btn-sm mt-3" onclick={edit}>{all.provider ? 'Change' : 'Set up sign-in'}</button>
    {#if all.provider}<button class="btn btn-sm mt-3" onclick={() => (removing = true)}>Remove</button>{/if}
  {/if}
{:else}<ProblemNote problem={seen.problem} />{/if}
<Confirm
  bind:open={removing}
  title="End sign-in at the identity provider?"
  action="Remove"
  busy={doing.busy}
  problem={doing.problem}
  run={remove}><p>Everyone who signed in at the provider is signed out, and cannot sign in any more.</p></Confirm
>
