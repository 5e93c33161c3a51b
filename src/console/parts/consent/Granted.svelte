<script lang="ts">
  import type { Connection, ConsentOutcome } from '../../../api/connections.ts';
  import { outcomeWords } from '../../state/outcome-words.ts';
  import Answer from '../Answer.svelte';
  import CapabilityTable from '../CapabilityTable.svelte';
  import LifeTable from '../LifeTable.svelte';
  import ScopeTable from '../ScopeTable.svelte';
  import StandbyNote from '../StandbyNote.svelte';

  /** What a consent granted: account, scopes, tokens, lifetime, the first test call. */
  interface Props {
    outcome: ConsentOutcome;
    connection: Connection | null;
    signedIn: boolean;
    again: () => unknown;
  }
  const { outcome: o, connection, signedIn, again }: Props = $props();
  const words = $derived(outcomeWords(o));
</script>

{#if o.scopes}
  <dl class="facts mb-4">
    <dt>Account</dt>
    <dd>{words.account}</dd>
    {#if o.opened}<dt>Opened</dt>
      <dd>{o.opened}</dd>{/if}
    <dt>Scopes</dt>
    <dd>
      {#each o.scopes.granted as scope (scope)}<code class="mr-2">{scope}</code>{/each}
    </dd>
    {#if o.scopes.missing.length > 0}<dt class="text-warning">Not granted</dt>
      <dd class="text-warning font-semibold">{o.scopes.missing.join(' ')}</dd>{/if}
    <dt>Refresh token</dt>
    <dd class={o.refresh_token || o.by_itself ? '' : 'text-warning font-semibold'}>
      {words.refreshToken}
    </dd>
    <dt>Access token</dt>
    <dd>{words.accessToken}</dd>
  </dl>
  {#each o.warnings as warning (warning)}<p class="border-l-4 border-warning pl-3 my-1">{warning}</p>{/each}
  {#if o.lifetime && o.lifetime.lines.length > 0}<h2 class="mt-4 mb-1">Expiration and renewal</h2>
    <LifeTable lifetime={o.lifetime} />{/if}
  {#if o.first_call}<h2 class="mt-4 mb-1">First test call</h2>
    <Answer answer={o.first_call} />{/if}
  {#if signedIn && !o.problem && connection && connection.capabilities.length > 1}<h2 class="mt-4 mb-1">Capabilities</h2>
    <CapabilityTable {connection} done={again} />{/if}
  {#if connection && !o.by_itself && (o.scopes.missing.length > 0 || connection.operations_lacking.length > 0)}<h2 class="mt-4 mb-1">
      Scopes compared
    </h2>
    <ScopeTable {connection} />{#if connection.operations_lacking.length > 0}<p class="mt-1">
        Not possible with them: {connection.operations_lacking.join(', ')}.{#if connection.callers.length > 0}
          That stops {connection.callers.join(', ')} where they need it.{/if}
      </p>{/if}{/if}
  {#if o.decide === 'prepared' && connection}<StandbyNote {connection} done={again} />{/if}
{/if}
