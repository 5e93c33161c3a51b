import type { Job, Run } from '../../api/jobs.ts';
import { scheduleInWords } from '../../core/jobs/schedule.ts';
import { styleInWords } from '../../core/paging/plan.ts';
import { iso } from '../iso.ts';
import type { JobRow } from '../store/jobs.ts';
import type { DeliveryRow } from '../store/run-deliveries.ts';
import type { RunRow } from '../store/runs.ts';
import { targetInWords } from './deliveries.ts';
import type { JobParts } from './parts.ts';

/** Runs as they are shown, with the names of their jobs and connections and their deliveries. */
export async function runViews(s: JobParts, rows: readonly RunRow[], job: Pick<JobRow, 'name' | 'id'> | null): Promise<Run[]> {
  const deliveries = await s.store.runs.deliveries(rows.map((row) => row.id));
  const connections = new Map<string, string>();
  for (const connectionId of new Set(rows.map((row) => row.connectionId)))
    connections.set(connectionId, (await s.store.connections.byId(connectionId))?.name ?? 'removed');
  return rows.map((row) =>
    runView(s, row, { job, connection: connections.get(row.connectionId) ?? 'removed', deliveries: deliveries.filter((one) => one.runId === row.id) }),
  );
}

function runView(
  s: JobParts,
  row: RunRow,
  { job, connection, deliveries }: { job: Pick<JobRow, 'name'> | null; connection: string; deliveries: DeliveryRow[] },
): Run {
  const { checkpoint: point, plan } = row;
  return {
    id: row.id,
    job: job?.name ?? null,
    connection,
    number: row.number,
    reason: row.reason,
    requested_by: row.requestedBy,
    state: row.state,
    waits: row.waits && row.state === 'waiting' ? { says: row.waits, until: iso(row.nextAt) } : null,
    started_at: iso(row.startedAt),
    ended_at: row.endedAt === null ? null : iso(row.endedAt),
    seconds: Math.max(0, Math.round((row.endedAt ?? s.ports.clock.now()) - row.startedAt) / 1000),
    records: point.records,
    doubles: point.doubles,
    pages: point.pages,
    calls: point.calls,
    bytes: point.bytes,
    total: point.totals?.last ?? null,
    difference: plan.lastRecords === null || row.state !== 'done' ? null : point.records - plan.lastRecords,
    full: plan.full,
    completeness: row.outcome?.completeness ?? null,
    problem: row.outcome?.problem ?? null,
    deliveries: deliveries.map((one) => ({
      target: targetInWords(one.settings),
      state: one.state,
      tries: one.tries,
      says: one.says,
      next_at: one.state === 'waiting' ? iso(one.nextAt) : null,
    })),
    columns: point.columns,
  };
}

export async function jobViews(s: JobParts, rows: readonly JobRow[]): Promise<Job[]> {
  return Promise.all(rows.map((row) => jobView(s, row)));
}

async function jobView(s: JobParts, row: JobRow): Promise<Job> {
  const [[lastRow], served, connection] = await Promise.all([
    s.store.runs.ofJob(row.id, 1),
    row.latestRunId === null ? null : s.store.runs.byId(row.latestRunId),
    s.store.connections.byId(row.connectionId),
  ]);
  const client = connection && (await s.store.clients.byId(connection.clientId));
  const provider = client && (await s.store.providers.byId(client.providerId));
  const [last] = lastRow ? await runViews(s, [lastRow], row) : [];
  const paging = lastRow?.plan.paging ?? row.settings.paging;
  return {
    name: row.name,
    connection: connection?.name ?? 'removed',
    provider: provider?.name ?? '',
    settings: row.settings,
    schedule_says: scheduleInWords(row.settings.schedule),
    paging_says: paging ? styleInWords(paging.style) : 'as the definition states',
    revision: row.revision,
    next_run_at: row.enabled && row.nextRunAt !== null ? iso(row.nextRunAt) : null,
    last: last ?? null,
    latest: served && latestOf(served),
    data_url: dataUrl(s, row.name, 'csv'),
    has_signing_secret: row.signingSecretSealed !== null,
    created_by: row.createdBy,
    created_at: iso(row.createdAt),
  };
}

export const latestOf = (row: RunRow): { run: number; at: string; records: number } => ({
  run: row.number,
  at: iso(row.endedAt ?? row.startedAt),
  records: row.outcome?.written ?? row.checkpoint.kept,
});
export const dataUrl = (s: Pick<JobParts, 'settings'>, job: string, format: string): string => `${s.settings.publicUrl}/data/${job}/latest.${format}`;
