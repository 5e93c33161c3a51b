<script lang="ts">
  import type { Status } from '../../../api/status.ts';
  import { counted } from '../../state/moments.ts';
  import Time from '../../ui/Time.svelte';

  /** The service itself: renewals, issuance, endpoints, replicas. */
  const { status: s }: { status: Status } = $props();
  const paused = $derived(s.endpoints.filter((one) => one.paused_until !== null));
</script>

<section aria-labelledby="service">
  <h2 id="service" class="mb-1">Service</h2>
  <dl class="facts">
    <dt>Renewals</dt>
    <dd>
      {s.renewals.last_hour} in the last hour, {s.renewals.failed_last_hour} failed; {s.renewals.due_now} due{#if s.renewals.oldest_due_at},
        oldest <Time at={s.renewals.oldest_due_at} />{/if}
    </dd>
    {#if s.renewals.unsaved > 0}<dt class="text-error">Not saved yet</dt>
      <dd class="text-error font-semibold">
        {s.renewals.unsaved} responses wait for the database, {s.renewals.spilled} in sealed files too. Do not stop the service.
      </dd>{/if}
    {#each paused as one (one.origin)}<dt class="text-warning">Paused by circuit breaker</dt>
      <dd><code>{one.origin}</code> does not answer; next try <Time at={one.paused_until} /></dd>{/each}
    <dt>Issued</dt>
    <dd>
      {counted(s.issued.last_hour, 'token')} and {counted(s.issued.relayed_last_hour, 'relayed call')} in the last hour, {s.issued
        .refused_last_hour} rejected
    </dd>
    <dt>Replicas</dt>
    <dd>
      {#each s.replicas as replica (replica.instance)}<div>
          <span class={replica.alive ? 'text-success font-semibold' : 'text-warning font-semibold'}
            >{replica.alive ? 'alive' : 'silent'}</span
          >
          <code>{replica.instance.slice(-12)}</code>, started <Time at={replica.started_at} />
        </div>{/each}
    </dd>
    <dt>Version</dt>
    <dd>{s.version} at {s.public_url}</dd>
  </dl>
</section>
