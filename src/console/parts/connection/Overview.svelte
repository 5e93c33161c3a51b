<script lang="ts">
  import type { Connection } from '../../../api/connections.ts';
  import type { ConnectionWords } from '../../state/connection-words.ts';
  import Copy from '../../ui/Copy.svelte';
  import LabelChoice from '../LabelChoice.svelte';
  import Time from '../../ui/Time.svelte';
  import OtherWays from '../OtherWays.svelte';
  import PolicyChoice from '../PolicyChoice.svelte';
  import Statistics from '../Statistics.svelte';

  /** What a connection is, how it is used, and how it did in the last day. */
  const { connection: c, words, done }: { connection: Connection; words: ConnectionWords; done: () => unknown } = $props();
  const of = $derived({ connection: c.name });
</script>

<div class="grid lg:grid-cols-2 gap-6 mb-6">
  <section aria-labelledby="details">
    <h2 id="details" class="mb-1">Details</h2>
    <dl class="facts">
      <dt>Account</dt>
      <dd>
        {words.account}{#if c.expected_account && c.expected_account !== c.account && !words.own}
          <span class="text-base-content/70">(expected: {c.expected_account})</span>{/if}
      </dd>
      {#if c.opened}<dt>Opened</dt>
        <dd>{c.opened}</dd>{/if}
      <dt>Client</dt>
      <dd>
        <a class="link" href={`#/providers/${c.provider}/clients/${c.client}`}>{c.provider_title}/{c.client}</a>, {c.rehearsal
          ? `rehearsal of ${c.environment}`
          : c.environment}
      </dd>
      {#if c.consented_at}<dt>{words.consentedAs}</dt>
        <dd><Time at={c.consented_at} />, by {c.consented_by}</dd>
        <dt>Refresh token</dt>
        <dd class={words.refreshToken.isWarning ? 'text-warning font-semibold' : ''}>{words.refreshToken.says}</dd>{/if}
      {#if c.reconnect_by}<dt>Reconnect by</dt>
        <dd><Time at={c.reconnect_by} />, when the grant expires</dd>{/if}
      <dt>Renewal</dt>
      <dd><PolicyChoice connection={c} {done} /></dd>
      {#if Object.keys(c.placeholders).length > 0}<dt>Placeholders</dt>
        <dd>
          {#each Object.entries(c.placeholders) as [name, value] (name)}<span class="mr-3">{name} <code>{value}</code></span>{/each}
        </dd>{/if}
      {#if c.operations.length > 0}<dt>Operations</dt>
        <dd>{c.operations.join(', ')}</dd>{/if}
      {#if c.operations_lacking.length > 0}<dt class="text-warning">Not allowed</dt>
        <dd class="text-warning font-semibold">{c.operations_lacking.join(', ')}: a scope is missing</dd>{/if}
      {#if c.weaker_client}<dt>Less privilege</dt>
        <dd>
          <a class="link" href={`#/providers/${c.provider}/clients/${c.weaker_client}`}>{c.weaker_client}</a> is enough for these operations
        </dd>{/if}
    </dl>
  </section>
  <section aria-labelledby="use">
    <h2 id="use" class="mb-1">Use it</h2>
    <dl class="facts">
      <dt>Labels</dt>
      <dd><LabelChoice connection={c} {done} /></dd>
      <dt>API</dt>
      <dd><Copy value={c.base_url} label="the API address" /></dd>
      <dt>Resource</dt>
      <dd><Copy value={c.resource} label="the resource" /></dd>
      <dt>Relay</dt>
      <dd><Copy value={c.relay_url} label="the relay's address" /></dd>
      <dt>Command</dt>
      <dd><Copy value={`rk call ${c.name} GET ${c.probe.path || '/'}`} label="the command" /></dd>
    </dl>
  </section>
</div>
<section class="mb-6" aria-labelledby="day">
  <h2 id="day" class="mb-1">Last 24 hours</h2>
  <Statistics {of} />
</section>
<OtherWays connection={c} {done} />
