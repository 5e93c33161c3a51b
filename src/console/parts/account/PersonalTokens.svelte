<script lang="ts">
  import type { SessionView } from '../../../api/operators.ts';
  import { ROLES, type Role } from '../../../api/roles.ts';
  import { Action } from '../../state/query.svelte.ts';
  import { call } from '../../state/session.svelte.ts';
  import Copy from '../../ui/Copy.svelte';
  import Field from '../../ui/Field.svelte';
  import Time from '../../ui/Time.svelte';
  import ProblemNote from '../ProblemNote.svelte';

  const { tokens, role: own, changed }: { tokens: readonly SessionView[]; role: Role; changed: () => unknown } = $props();
  let name = $state('');
  let role = $state<Role>('viewer');
  let days = $state(90);
  let made = $state.raw<string | null>(null);
  const [adding, ending] = [new Action(), new Action()];
  const roles = $derived(ROLES.slice(0, ROLES.indexOf(own) + 1));
  const add = (event: SubmitEvent) => {
    event.preventDefault();
    void adding.run(async () => {
      made = (await call('addPersonalToken', { body: { name, role, days } })).token;
      name = '';
      await changed();
    });
  };
  const end = (session: string) =>
    ending.run(async () => {
      await call('endOwnSession', { params: { session } });
      await changed();
    });
</script>

<section class="mt-6 max-w-4xl" aria-labelledby="own-tokens">
  <h2 id="own-tokens">Personal tokens</h2>
  <p class="mb-2 text-base-content/70">
    For your scripts: <code>RUSTY_KETTLE_TOKEN</code> for rk, <code>Authorization: Bearer</code> for the API.
  </p>
  <p class="mb-2 text-base-content/70">A token does no sensitive action.</p>
  <ProblemNote problem={ending.problem} />
  {#if tokens.length > 0}
    <table class="list-table mb-3">
      <thead
        ><tr><th>Name</th><th>Role</th><th>Last used</th><th>From</th><th>Expires</th><th><span class="sr-only">Actions</span></th></tr
        ></thead
      >
      <tbody>
        {#each tokens as one (one.id)}
          <tr>
            <td data-label="Name" class="font-semibold">{one.name}</td>
            <td data-label="Role">{one.role}</td>
            <td data-label="Last used"
              >{#if one.last_used_at}<Time at={one.last_used_at} />{:else}never{/if}</td
            >
            <td data-label="From" class="mono">{one.address ?? ''}</td>
            <td data-label="Expires"><Time at={one.ends_at} /></td>
            <td class="text-right"><button class="btn btn-xs" disabled={ending.busy} onclick={() => end(one.id)}>Revoke</button></td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
  {#if made}
    <div class="border-l-4 border-primary bg-base-200 px-4 py-3 mb-3" role="status">
      <p>Copy the token now: it is shown only once.</p>
      <Copy value={made} label="the token" />
    </div>
  {/if}
  <form class="flex flex-wrap gap-3 items-end max-w-3xl" onsubmit={add}>
    <Field id="token-name" label="Name"><input id="token-name" class="input" required maxlength="60" bind:value={name} /></Field>
    <Field id="token-role" label="Role"
      ><select id="token-role" class="select" bind:value={role}
        >{#each roles as one (one)}<option value={one}>{one}</option>{/each}</select
      ></Field
    >
    <Field id="token-days" label="Days"
      ><input id="token-days" type="number" min="1" max="366" class="input w-24" required bind:value={days} /></Field
    >
    <button class="btn btn-sm mb-3" disabled={adding.busy}>Add token</button>
  </form>
  <ProblemNote problem={adding.problem} />
</section>
