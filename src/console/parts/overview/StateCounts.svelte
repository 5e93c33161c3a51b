<script lang="ts">
  import type { Status } from '../../../api/status.ts';

  /** How many connections are in which state; each number leads to its list. */
  const { connections: c }: { connections: Status['connections'] } = $props();
  const counts = $derived([
    { label: 'working', count: c.working, tone: 'text-success', href: '#/connections?state=working' },
    ...(c.idle > 0 ? [{ label: 'idle', count: c.idle, tone: 'text-success', href: '#/connections?state=idle' }] : []),
    { label: 'degraded', count: c.degraded, tone: 'text-warning', href: '#/connections?state=degraded' },
    ...(c.at_risk > 0 ? [{ label: 'of them at risk', count: c.at_risk, tone: 'text-warning', href: '#/connections?state=degraded' }] : []),
    { label: 'action needed', count: c.action_needed, tone: 'text-error', href: '#/connections?state=action_needed' },
    { label: 'in all', count: c.total, tone: '', href: '#/connections' },
  ]);
</script>

<dl class="flex flex-wrap gap-x-10 gap-y-2 mb-5">
  {#each counts as one (one.label)}
    <div class="flex items-baseline gap-2">
      <dt class="order-2"><a class="hover:underline" href={one.href}>{one.label}</a></dt>
      <dd class={['text-2xl font-semibold tabular-nums', one.count > 0 && one.tone]}>{one.count.toLocaleString('en-US')}</dd>
    </div>
  {/each}
</dl>
