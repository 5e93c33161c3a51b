<script lang="ts">
  import Field from './Field.svelte';

  /** A password, present or new: password managers tell them apart by `autocomplete`. */
  interface Props {
    id?: string;
    label?: string;
    help?: string;
    /** A password that is set now. */
    fresh?: boolean;
    value: string;
  }
  let {
    id = 'password',
    label = 'Password',
    fresh = false,
    help = fresh ? 'At least 10 characters' : '',
    value = $bindable(),
  }: Props = $props();
</script>

<Field {id} {label} {help}>
  <input
    {id}
    type="password"
    class="input w-full"
    autocomplete={fresh ? 'new-password' : 'current-password'}
    minlength={fresh ? 10 : undefined}
    maxlength="200"
    required
    bind:value
  />
</Field>
