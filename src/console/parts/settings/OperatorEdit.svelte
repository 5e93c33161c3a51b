<script lang="ts">
  import { untrack } from 'svelte';
  import type { OperatorSummary } from '../../../api/operators.ts';
  import type { Role } from '../../../api/roles.ts';
  import Field from '../../ui/Field.svelte';
  import RoleChoice from './RoleChoice.svelte';

  const {
    one,
    busy,
    save,
    cancel,
  }: { one: OperatorSummary; busy: boolean; save: (set: { name?: string; role: Role; labels: string[] }) => unknown; cancel: () => void } =
    $props();
  let name = $state(untrack(() => one.name));
  let role = $state<Role>(untrack(() => one.role));
  let labels = $state(untrack(() => one.labels.join(', ')));
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    const renamed = name.trim() === one.name ? {} : { name: name.trim() };
    void save({ ...renamed, role, labels: labels.split(/[\s,]+/).filter(Boolean) });
  };
</script>

<form class="panel px-4 py-3 my-3 max-w-xl" onsubmit={submit} aria-label={`Edit ${one.name}`}>
  <h3 class="font-semibold mb-2">{one.name}</h3>
  <Field id="edit-name" label="Name" help="The activity log keeps the former name."
    ><input id="edit-name" class="input w-full" required maxlength="63" autocomplete="off" bind:value={name} /></Field
  >
  <RoleChoice bind:role name="edit-role" />
  <Field id="edit-labels" label="Limit to labels" help="Only connections with one of them. Empty: no limit"
    ><input id="edit-labels" class="input w-full" autocomplete="off" bind:value={labels} /></Field
  >
  <button class="btn btn-primary btn-sm" disabled={busy}>Save</button>
  <button type="button" class="btn btn-sm" onclick={cancel}>Cancel</button>
</form>
