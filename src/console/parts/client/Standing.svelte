<script lang="ts">
  import type { Client } from '../../../api/clients.ts';

  /** What is known of a client at the provider: approval, reach, what is registered, how it authenticates, its privilege. */
  const { client: c }: { client: Client } = $props();
  const approved = $derived(c.registering.approved_on ? `, on ${c.registering.approved_on}` : '');
  const approval = $derived(`${c.approval.replaceAll('_', ' ')}${approved}`);
</script>

<dl class="facts">
  <dt>Type</dt>
  <dd>{c.type.replaceAll('_', ' ')}, {c.environment}{c.variant ? `, ${c.variant}` : ''}</dd>
  <dt>Approval</dt>
  <dd>
    {approval}{#if c.approval === 'approved'}. <strong>Costly to change:</strong> a change may need approval again{/if}
  </dd>
  {#if c.registering.requested_on || c.registering.expected_on || c.registering.request_form}<dt>Asked for</dt>
    <dd>
      {[
        c.registering.requested_on ? `on ${c.registering.requested_on}` : '',
        c.registering.request_form ? `by ${c.registering.request_form}` : '',
        c.registering.expected_on ? `expected by ${c.registering.expected_on}` : '',
      ]
        .filter(Boolean)
        .join(', ')}
    </dd>{/if}
  {#if c.client_page}<dt>At the provider</dt>
    <dd><a class="link" href={c.client_page} target="_blank" rel="noopener">this client’s page</a></dd>{/if}
  {#if c.registering.registered_by}<dt>Registered by</dt>
    <dd>{c.registering.registered_by}</dd>{/if}
  {#if c.registering.notes}<dt>Notes</dt>
    <dd class="whitespace-pre-line">{c.registering.notes}</dd>{/if}
  <dt>Reach</dt>
  <dd>
    {c.reach === 'listed'
      ? `listed accounts${c.listed_accounts.length > 0 ? `: ${c.listed_accounts.join(', ')}` : ''}`
      : c.reach}{#if c.reach_says}. {c.reach_says}{/if}
  </dd>
  {#if c.registering.redirect_uris_there}<dt>Redirect URI at the provider</dt>
    <dd class="mono break-all">{c.registering.redirect_uris_there.join(' ') || 'none'}</dd>{/if}
  {#if c.registering.domains_there}<dt>Domains at the provider</dt>
    <dd class="mono">{c.registering.domains_there.join(' ')}</dd>{/if}
  <dt>Authenticates by</dt>
  <dd>{c.method}</dd>
  <dt>Registered scopes</dt>
  <dd>
    {#each c.registered_scopes as scope (scope)}<code class="mr-2">{scope}</code>{:else}not entered{/each}
  </dd>
  <dt>Privilege</dt>
  <dd class={c.privilege.power === 'admin' || c.privilege.acts_for_itself ? 'text-warning font-semibold' : ''}>{c.privilege.says}</dd>
  {#each c.addresses as one (one.what)}<dt>{one.what}</dt>
    <dd class="mono break-all">{one.address}</dd>{/each}
</dl>
