<script lang="ts">
  import type { ComparedBundle } from '../../../api/bundles.ts';
  import { fieldValueText } from '../../../api/field-value.ts';

  const { compared }: { compared: ComparedBundle } = $props();
  type Item = ComparedBundle['items'][number];
  const STATES: Record<Item['state'], { label: string; class: string }> = {
    new: { label: 'new', class: 'text-success' },
    changed: { label: 'changed', class: 'text-warning' },
    conflict: { label: 'conflict', class: 'text-error font-semibold' },
    removed: { label: 'not in the bundle any more', class: 'text-warning' },
    same: { label: 'the same', class: '' },
    only_here: { label: 'only here', class: '' },
  };
  const shown = $derived(compared.items.filter((one) => one.state !== 'same' && one.state !== 'only_here'));
  const counts = $derived(Object.entries(compared.counts).filter(([, count]) => count > 0));
</script>

<p class="mt-3" role="status">
  {#each counts as [state, count], at (state)}{at > 0 ? ', ' : ''}<b class="tabular-nums">{count}</b>
    {STATES[state as Item['state']].label}{/each}.
</p>
{#if compared.problems.length > 0}
  <div class="border-l-4 border-error bg-base-200 px-4 py-3 my-3">
    <p class="font-semibold">Nothing can be imported before this is fixed:</p>
    <ul class="list-disc ml-5">
      {#each compared.problems as one, at (at)}<li><span class="mono">{one.path}</span>: {one.why}</li>{/each}
    </ul>
  </div>
{/if}
{#if shown.length > 0}
  <table class="list-table mt-2">
    <caption class="sr-only">Differences</caption>
    <thead><tr><th>Object</th><th>State</th><th>Field</th><th>Here</th><th>Bundle</th></tr></thead>
    <tbody>
      {#each shown as one (`${one.kind} ${one.name}`)}
        {#each one.fields.length > 0 ? one.fields : [null] as field, at (at)}
          <tr>
            <td data-label="Object"
              >{#if at === 0}<span class="text-base-content/70">{one.kind}</span> <b>{one.name}</b>{/if}</td
            >
            <td data-label="State" class={STATES[one.state].class}>{at === 0 ? STATES[one.state].label : ''}</td>
            <td data-label="Field" class="mono">{field?.path ?? ''}</td>
            <td data-label="Here" class="mono break-words">{field ? fieldValueText(field.here) : ''}</td>
            <td data-label="Bundle" class="mono break-words">{field ? fieldValueText(field.bundle) : ''}</td>
          </tr>
        {/each}
        {#if one.note}<tr><td></td><td colspan="4" class="text-base-content/70">{one.note}</td></tr>{/if}
      {/each}
    </tbody>
  </table>
{:else if compared.problems.length === 0}<p class="mt-2">No differences.</p>{/if}
{#if compared.reconnect.length > 0}<p class="mt-2">To connect after an import: {compared.reconnect.join(', ')}</p>{/if}
