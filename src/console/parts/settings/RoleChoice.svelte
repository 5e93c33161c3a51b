<script lang="ts">
  import { ROLES, type Role } from '../../../api/roles.ts';
  import { ROLE_WORDS } from '../../../api/vocabulary.ts';

  let { role = $bindable(), name }: { role: Role; name: string } = $props();
</script>

<fieldset class="mb-3">
  <legend class="font-semibold mb-1">Role</legend>
  {#each ROLES as one (one)}
    <label class="flex gap-2 items-baseline py-0.5"
      ><input type="radio" class="radio radio-sm" {name} value={one} bind:group={role} /><span><b>{one}</b> {ROLE_WORDS[one]}</span></label
    >
  {/each}
</fieldset>
