import { type ConnectionState, HEALTH_CAUSES, type HealthCause } from '../../core/health.ts';
import { document, id, instant, number, orNull, rowReader, text, words } from './column.ts';
import { type Database, idBytes, instantText } from './database.ts';
import { SIGHTING, type Sighting } from './sightings.ts';

/** Facts about which people should know, counted where they lie. */
export interface NoticeFacts {
  /** Labels of the connections of a client in one state with one cause. */
  labelsOf(group: { clientId: string; state: ConnectionState; causeKey: HealthCause }): Promise<string[]>;
  /** People of shared connections who must reconnect, for each shared connection. */
  peopleLost(): Promise<{ shared: string; count: number; labels: string[] }[]>;
  /** The last run that ended, of each enabled job. */
  lastRuns(): Promise<{ job: string; connection: string; runId: string; number: number; state: string; outcome: string | null; labels: string[] }[]>;
  /** Callers whose application does not take events, or lost some in the last day. */
  unreached(): Promise<{ caller: string; waiting: number; lost: number; says: string }[]>;
  /** What was seen at clients in the last days. */
  sightings(): Promise<{ clientId: string; provider: string; client: string; what: Sighting; firstAt: number; lastAt: number }[]>;
  /** Of clients with a test phase: one connection whose refresh token worked after the phase had ended, for each. */
  outlivedPhase(phases: ReadonlyMap<string, number>): Promise<{ clientId: string; provider: string; client: string; connection: string }[]>;
  /** What checks of approval found, newest first: of each client the last. */
  approvalNews(since: number): Promise<{ entryId: string; subject: string; approval: string; says: string; at: number }[]>;
}

const MAX_LABELS = 50;
/** A phase that ends a little late is no news. */
const OUTLIVED_SECONDS = 3_600;
const MAX_ROWS = 500;
const LABELS = "(SELECT GROUP_CONCAT(l.label ORDER BY l.label SEPARATOR ' ') FROM connection_labels l WHERE l.connection_id = k.id)";
const readLost = rowReader('connections', { shared: text, count: number, labels: words }, 'shared');
const readLastRun = rowReader('runs', { job: text, connection: text, runId: id, number, state: text, outcome: orNull(text), labels: words }, 'runId');
const readSighting = rowReader('sightings', { clientId: id, provider: text, client: text, what: SIGHTING, firstAt: instant, lastAt: instant }, 'clientId');
const readNews = rowReader('history', { entryId: id, subject: text, says: text, data: document, at: instant }, 'entryId');

/** Causes that a person can fix by consenting again. */
const OF_PEOPLE = Object.entries(HEALTH_CAUSES)
  .filter(([, level]) => level === 'connection')
  .map(([cause]) => `'${cause}'`)
  .join(', ');

export function noticeFacts(database: Database): NoticeFacts {
  return {
    async labelsOf({ clientId, state, causeKey }) {
      const rows = await database.select<{ label: string }>(
        `SELECT DISTINCT l.label FROM connection_labels l JOIN connections k ON k.id = l.connection_id
         WHERE k.client_id = $1 AND k.state = $2 AND k.cause_key = $3 AND k.person_of IS NULL ORDER BY l.label LIMIT ${MAX_LABELS}`,
        [idBytes(clientId), state, causeKey],
      );
      return rows.map((row) => row.label);
    },
    async peopleLost() {
      const rows = await database.select(
        `SELECT k.name AS shared, s.n AS count, ${LABELS} AS labels
         FROM (SELECT person_of, COUNT(*) AS n FROM connections WHERE person_of IS NOT NULL AND state = 'action_needed' AND cause_key IN (${OF_PEOPLE}) GROUP BY person_of LIMIT ${MAX_ROWS}) s
         JOIN connections k ON k.id = s.person_of`,
      );
      return rows.map(readLost);
    },
    async lastRuns() {
      const rows = await database.select(
        `SELECT j.name AS job, k.name AS connection, r.id AS runId, r.number, r.state, r.outcome, ${LABELS} AS labels
         FROM jobs j JOIN connections k ON k.id = j.connection_id
         JOIN runs r ON r.id = (SELECT x.id FROM runs x WHERE x.job_id = j.id AND x.state IN ('done', 'failed') ORDER BY x.number DESC LIMIT 1)
         WHERE j.enabled = 1 ORDER BY j.name LIMIT ${MAX_ROWS}`,
      );
      return rows.map(readLastRun);
    },
    async unreached() {
      const rows = await database.select<{ caller: string; waiting: number | bigint; lost: number | bigint; says: string }>(
        `SELECT c.name AS caller, SUM(d.state = 'waiting') AS waiting, SUM(d.state = 'failed') AS lost, MAX(d.says) AS says
         FROM event_deliveries d JOIN callers c ON c.id = d.caller_id
         WHERE (d.state = 'waiting' AND d.tries >= 4) OR (d.state = 'failed' AND d.next_at > UTC_TIMESTAMP(3) - INTERVAL 1 DAY)
         GROUP BY c.name LIMIT ${MAX_ROWS}`,
      );
      return rows.map((row) => ({ caller: row.caller, waiting: Number(row.waiting), lost: Number(row.lost), says: row.says }));
    },
    async sightings() {
      const rows = await database.select(
        `SELECT s.client_id AS clientId, p.name AS provider, c.name AS client, s.what, s.first_at AS firstAt, s.last_at AS lastAt
         FROM sightings s JOIN clients c ON c.id = s.client_id JOIN providers p ON p.id = c.provider_id
         WHERE c.stage <> 'retired' AND s.last_at > UTC_TIMESTAMP(3) - INTERVAL 7 DAY LIMIT ${MAX_ROWS * 10}`,
      );
      return rows.map(readSighting);
    },
    async outlivedPhase(phases) {
      const found: { clientId: string; provider: string; client: string; connection: string }[] = [];
      for (const [clientId, lifeMs] of phases) {
        const [row] = await database.select<{ provider: string; client: string; connection: string }>(
          `SELECT p.name AS provider, c.name AS client, k.name AS connection
           FROM connections k JOIN grants g ON g.id = k.current_grant_id JOIN renewals r ON r.grant_id = g.id
           JOIN clients c ON c.id = k.client_id JOIN providers p ON p.id = c.provider_id
           WHERE k.client_id = $1 AND g.kind = 'authorization_code' AND r.ended = 0
             AND r.issued_at > g.consented_at + INTERVAL ${Math.ceil(lifeMs / 1000) + OUTLIVED_SECONDS} SECOND LIMIT 1`,
          [idBytes(clientId)],
        );
        if (row) found.push({ clientId, ...row });
      }
      return found;
    },
    async approvalNews(since) {
      const rows = await database.select(
        `SELECT id AS entryId, subject, says, data, at FROM history
         WHERE routine = 0 AND at >= $1 AND kind = 'approval_changed' AND actor = 'service' ORDER BY at DESC LIMIT ${MAX_ROWS}`,
        [instantText(since)],
      );
      const last = new Map<string, { entryId: string; subject: string; approval: string; says: string; at: number }>();
      for (const { data, ...row } of rows.map(readNews))
        if (typeof data.approval === 'string' && !last.has(row.subject)) last.set(row.subject, { ...row, approval: data.approval });
      return [...last.values()];
    },
  };
}
