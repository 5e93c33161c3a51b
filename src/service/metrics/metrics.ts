import { Counter, collectDefaultMetrics, Gauge, Registry } from 'prom-client';
import { CONNECTION_STATES } from '../../core/health.ts';
import { NOTICE_SEVERITIES } from '../../core/notices/notice.ts';
import type { Changes, History } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import { figuresOfAll } from '../processes/index.ts';
import type { AnswerKeeper, InstallationHold, Spill } from '../renewal/index.ts';
import type { Store } from '../store/store.ts';
import { USAGE_OUTCOMES } from '../store/usage.ts';
import type { WriteRefusals } from '../store/write-refusals.ts';
import type { Usage } from '../usage/index.ts';

/** Metrics depend on these. */
export interface MetricParts {
  store: Pick<Store, 'connectionList' | 'notices' | 'renewals'>;
  history: Pick<History, 'counted'>;
  usage: Pick<Usage, 'totals'>;
  keeper: Pick<AnswerKeeper, 'unsaved'>;
  spill: Pick<Spill, 'waiting'>;
  hold: Pick<InstallationHold, 'state'>;
  changes: Pick<Changes, 'blindMs'>;
  refusals: Pick<WriteRefusals, 'state'>;
  ports: Pick<Ports, 'clock'>;
}

/**
 * Figures as OpenMetrics text. Every label has a short, closed list of values: none grows with connections, callers or people. Gauges are
 * read when they are asked for; counters count since this process began, or since the processes that serve the port did.
 */
export function metrics(s: MetricParts): { text(): Promise<string>; contentType: string } {
  const registry = new Registry<typeof Registry.OPENMETRICS_CONTENT_TYPE>();
  registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
  const registers = [registry];
  collectDefaultMetrics({ register: registry as never });
  /** Of several processes that serve one port, `aggregator` makes one figure: each reads the same of the installation, and its own of itself. */
  const gauge = (name: string, aggregator: 'max' | 'sum', help: string, collect: (self: Gauge) => void | Promise<void>): void => {
    new Gauge({
      name: `rusty_kettle_${name}`,
      help,
      aggregator,
      registers: registers as never,
      async collect() {
        await collect(this as unknown as Gauge);
      },
    });
  };
  const gaugeBy = <L extends string>(name: string, label: L, help: string, collect: (set: (value: string, count: number) => void) => Promise<void>): void => {
    new Gauge({
      name: `rusty_kettle_${name}`,
      help,
      aggregator: 'max',
      labelNames: [label],
      registers: registers as never,
      async collect() {
        await collect((value, count) => this.set({ [label]: value } as never, count));
      },
    });
  };
  const counterBy = <L extends string>(name: string, label: L, help: string, read: () => Iterable<readonly [string, number]>): void => {
    new Counter({
      name: `rusty_kettle_${name}`,
      help,
      labelNames: [label],
      registers: registers as never,
      collect() {
        this.reset();
        for (const [value, count] of read()) this.inc({ [label]: value } as never, count);
      },
    });
  };

  gaugeBy('connections', 'state', 'Connections by shown state, of the whole installation.', async (set) => {
    const counted = await s.store.connectionList.countStates();
    for (const state of CONNECTION_STATES)
      set(
        state,
        counted.filter((one) => one.state === state).reduce((sum, one) => sum + one.count, 0),
      );
  });
  gaugeBy('notices', 'severity', 'Open notices by severity, without those that are snoozed.', async (set) => {
    const counts = await s.store.notices.counts();
    for (const severity of NOTICE_SEVERITIES) set(severity, counts[severity]);
  });
  gauge('renewals_due', 'max', 'Renewals that are due and not done, of the whole installation.', async (self) =>
    self.set((await s.store.renewals.queue()).due),
  );
  gauge('renewals_oldest_due_seconds', 'max', 'How long the oldest renewal has been due.', async (self) => {
    const { oldestAt } = await s.store.renewals.queue();
    self.set(oldestAt === null ? 0 : Math.max(0, (s.ports.clock.now() - oldestAt) / 1000));
  });
  gauge('answers_unsaved', 'sum', 'Answers of providers that are in memory and not saved yet.', (self) => self.set(s.keeper.unsaved()));
  gauge('answers_spilled', 'sum', 'Answers of providers that wait in files for the database.', (self) => self.set(s.spill.waiting()));
  gauge(
    'held',
    'max',
    '1 while renewals of rotating grants are on hold, because a second installation may renew them, or the database went back.',
    async (self) => self.set((await s.hold.state()).held ? 1 : 0),
  );
  gauge('database_writes_refused', 'max', '1 while the database answers and refuses writes: its disk is full, or it is read-only.', (self) =>
    self.set(s.refusals.state() === null ? 0 : 1),
  );
  gauge('database_silent_seconds', 'max', 'How long ago the database last answered.', (self) => self.set(s.changes.blindMs() / 1000));
  counterBy('uses', 'outcome', 'Issued tokens, relayed calls, and refusals, since the service started.', () => {
    const totals = s.usage.totals();
    return USAGE_OUTCOMES.map((outcome) => [outcome, totals[outcome]] as const);
  });
  counterBy(
    'activity',
    'kind',
    'Entries of the activity log by kind, since the service started: renewed, renewal_failed, action_needed, consented and others.',
    () => s.history.counted(),
  );
  // Of a counter the text of OpenMetrics adds `_total` to the name; those of Node.js have it already.
  const own = async () =>
    (await registry.getMetricsAsJSON()).map((one) => ({ ...one, name: String(one.type) === 'counter' ? one.name.replace(/_total$/, '') : one.name }));
  return { text: figuresOfAll(own) ?? (() => registry.metrics()), contentType: registry.contentType };
}
