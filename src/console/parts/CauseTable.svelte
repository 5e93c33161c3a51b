<script lang="ts">
  import type { CauseGroup } from '../../api/status.ts';
  import StateMark from './StateMark.svelte';

  /** Connections by cause: one line and one remedy, however many there are. */
  const { groups }: { groups: CauseGroup[] } = $props();
  const CLIENT_CAUSES = ['client_refused', 'busy', 'set_up'];
  const where = (group: CauseGroup) =>
    CLIENT_CAUSES.includes(group.cause_key) ? `#/providers/${group.provider}/clients/${group.client}` : `#/connections/${group.example}`;
</script>

<div class="overflow-x-auto mb-4">
  <table class="list-table">
    <caption class="sr-only">By cause</caption>
    <thead><tr><th class="w-28 text-right">Connections</th><th class="w-40">State</th><th>Cause</th><th>What to do</th></tr></thead>
    <tbody>
      {#each groups as group (`${group.state} ${group.cause_key} ${group.provider} ${group.client}`)}
        <tr>
          <td data-label="Connections" class="text-right tabular-nums font-semibold">{group.count}</td>
          <td data-label="State"><StateMark state={group.state} /></td>
          <td data-label="Cause"
            ><a class="link" href={where(group)}>{group.says}</a>{#if group.evidence}<div class="text-sm">
                <code>{group.evidence}</code>
              </div>{/if}</td
          >
          <td data-label="What to do">{group.remedy}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
