import type { RenewalLimits } from '../core/renewal/limits.ts';
import { requestDeadlineMs } from '../core/renewal/plan.ts';
import { recover } from '../core/renewal/transitions.ts';
import { uncertainWaitMs } from '../core/renewal/uncertain-wait.ts';
import type { DatabaseClock } from './database/database-clock.ts';
import type { Ports } from './ports.ts';
import type { GrantContexts } from './renewal/grant-context.ts';
import type { Database } from './store/database.ts';
import { idBytes } from './store/database.ts';
import type { RenewalStore } from './store/renewals.ts';
import type { Tables } from './store/tables.ts';

/** One life of this process under the instance id of its data folder. */
export interface Replica {
  lifeId: string;
  incarnation: number;
  stop(): Promise<void>;
}

const FORMER_LIVES_KEPT_DAYS = 7;

/** Counts this life and starts its heartbeat. */
export async function beginLife(deps: {
  database: Database;
  tables: Tables;
  clock: DatabaseClock;
  limits: RenewalLimits;
  ports: Pick<Ports, 'log'>;
  instanceId: string;
  lifeId: string;
}): Promise<Replica> {
  const { database, tables, clock, limits, ports, instanceId, lifeId } = deps;
  const [former] = await database.select<{ most: number | bigint | null }>('SELECT MAX(incarnation) AS most FROM replicas WHERE instance_id = $1', [
    idBytes(instanceId),
  ]);
  const incarnation = Number(former?.most ?? 0) + 1;
  const now = clock.now();
  await tables.replicas.insert({
    lifeId,
    instanceId,
    incarnation,
    roles: 'web,renewal',
    startedAt: now,
    seenAt: now,
    openSince: null,
    offsetMs: clock.offsetMs(),
  });
  await database.write(`DELETE FROM replicas WHERE seen_at < UTC_TIMESTAMP(3) - INTERVAL ${FORMER_LIVES_KEPT_DAYS} DAY AND life_id <> $1`, [idBytes(lifeId)]);
  const beat = () =>
    database
      .write('UPDATE replicas SET seen_at = UTC_TIMESTAMP(3), offset_ms = $1 WHERE life_id = $2', [clock.offsetMs(), idBytes(lifeId)])
      .catch((cause: unknown) => ports.log.debug({ cause: String(cause) }, 'heartbeat not written'));
  const timer = setInterval(() => void beat(), limits.heartbeatMs).unref();
  return {
    lifeId,
    incarnation,
    async stop() {
      clearInterval(timer);
      await database.write('UPDATE replicas SET seen_at = UTC_TIMESTAMP(3) - INTERVAL 1 HOUR WHERE life_id = $1', [idBytes(lifeId)]).catch(() => 0); // away: it will look silent by itself
    },
  };
}

/**
 * T10, before anything is claimed: what a former life of this instance left behind is freed at once. That life is dead
 * (it would hold the data folder's socket), so nobody holds the answers to what it sent.
 */
export async function recoverFormerLives(deps: {
  store: RenewalStore;
  contexts: GrantContexts;
  limits: RenewalLimits;
  ports: Pick<Ports, 'clock' | 'log'>;
  instanceId: string;
  lifeId: string;
}): Promise<number> {
  const { store, contexts, limits, ports } = deps;
  const left = await store.leftBy(deps.instanceId, deps.lifeId);
  const known = await contexts.of(left.map((one) => one.grantId));
  for (const { grantId, row } of left) {
    const context = known.get(grantId);
    const sent = row.sentEpoch !== null || row.uncertainSince !== null;
    const sentAt = row.sentAt ?? ports.clock.now();
    const deadlineMs = requestDeadlineMs(limits, row.expiresAt - row.issuedAt);
    const waitMs =
      sent && context ? uncertainWaitMs(context.definition.dialect, { since: row.uncertainSince ?? sentAt, sentAt }, ports.clock.now(), limits, deadlineMs) : 0;
    await store.update([grantId], recover(waitMs));
  }
  if (left.length > 0) ports.log.info({ freed: left.length }, 'freed what a former life of this replica left behind');
  return left.length;
}
