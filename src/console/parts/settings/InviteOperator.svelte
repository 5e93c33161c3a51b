<script lang="ts">
  import type { Role } from '../../../api/roles.ts';
  import Field from '../../ui/Field.svelte';
  import RoleChoice from './RoleChoice.svelte';

  const { busy, invite }: { busy: boolean; invite: (name: string, role: Role, labels: string[]) => Promise<boolean> } = $props();
  let [name, labels] = $state(['', '']);
  let role = $state<Role>('viewer');
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    void invite(name.trim(), role, labels.split(/[\s,]+/).filter(Boolean)).then((done) => {
      if (done) [name, labels] = ['', ''];
    });
  };
</script>

<h3 class="font-semibold mt-6 mb-1">Invite an operator</h3>
<form class="max-w-xl" onsubmit={submit}>
  <Field id="operator-name" label="Name" help="Lower-case letters, digits and . _ @ -"
    ><input id="operator-name" class="input w-full" required maxlength="63" autocomplete="off" bind:value={name} /></Field
  >
  <RoleChoice bind:role name="invite-role" />
  <Field id="operator-labels" label="Limit to labels" help="Only connections with one of them, such as team=ops. Empty: no limit"
    ><input id="operator-labels" class="input w-full" autocomplete="off" bind:value={labels} /></Field
  >
  <button class="btn btn-primary btn-sm" disabled={busy}>Invite</button>
</form>
