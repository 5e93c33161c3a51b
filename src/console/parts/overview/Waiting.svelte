<script lang="ts">
  import type { Status } from '../../../api/status.ts';
  import Time from '../../ui/Time.svelte';
  import StateMark from '../StateMark.svelte';

  /** Decisions, revocations and approvals that are open. */
  const { status: s }: { status: Status } = $props();
  const whyOf = (one: Status['decisions'][number]) =>
    one.why === 'other_account'
      ? `another account consented than expected${one.account ? `: ${one.account}` : ''}`
      : 'the new tokens could not be verified';
  const onOf = (one: Status['approvals'][number]) => (one.on ? `${one.approval === 'approved' ? 'on' : 'requested on'} ${one.on}` : '');
</script>

{#if s.decisions.length > 0}
  <section class="mb-6" aria-labelledby="decisions">
    <h2 id="decisions" class="mb-1">Decisions</h2>
    <ul>
      {#each s.decisions as one (one.connection)}<li class="flex flex-wrap gap-x-3">
          <a class="link" href={`#/connections/${one.connection}`}>{one.connection}</a><span>{whyOf(one)}</span><span
            class="text-base-content/70"><Time at={one.since} />; not used until you decide</span
          >
        </li>{/each}
    </ul>
  </section>
{/if}
{#if s.revocations > 0}<p class="border-l-4 border-warning pl-3 mb-6">
    {s.revocations === 1 ? '1 grant is' : `${s.revocations} grants are`} not revoked at the provider yet. Retried automatically.
  </p>{/if}
{#if s.approvals.length > 0}
  <section class="mb-6" aria-labelledby="approvals">
    <h2 id="approvals" class="mb-1">Approval by providers</h2>
    <ul>
      {#each s.approvals as one (`${one.provider}/${one.client}`)}<li class="flex flex-wrap gap-x-3">
          <StateMark state={one.approval} /><a class="link" href={`#/providers/${one.provider}/clients/${one.client}`}
            >{one.provider}/{one.client}</a
          ><span class="text-base-content/70"
            >{onOf(one)}{#if one.seen_at && one.approval !== 'approved'}, checked <Time at={one.seen_at} />{/if}</span
          >
        </li>{/each}
    </ul>
  </section>
{/if}
