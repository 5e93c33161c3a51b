import { id, instant, number, orNull, text } from './column.ts';
import { type Bind, type Database, idBytes, idText, instantText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

const COLUMNS = {
  lifeId: id,
  instanceId: id,
  incarnation: number,
  roles: text,
  startedAt: instant,
  seenAt: instant,
  openSince: orNull(instant),
  recoveredAt: orNull(instant),
  offsetMs: number,
};
type ReplicaRow = RowOf<typeof COLUMNS>;

/** What a lifetime shows of itself: when it was seen, since when something is open, and whether a later life of its instance has recovered it. */
interface SignsOfLife {
  seenAt: number;
  openSince: number | null;
  succeeded: boolean;
}

/** A renewal that its owner left. */
export interface LeftRow {
  grantId: string;
  owner: string;
  isDead: boolean;
  isSent: boolean;
}

/** Lives of replicas, with their heartbeats. Instants are epoch ms of the database. */
export interface ReplicaStore {
  all(): Promise<ReplicaRow[]>;
  /** Earliest first. */
  livesOf(instanceId: string): Promise<ReplicaRow[]>;
  /** 0: there was none. */
  lastIncarnation(instanceId: string): Promise<number>;
  add(row: ReplicaRow): Promise<void>;
  /** Writes a heartbeat, unless it was under way until after `goodUntil`. */
  beat(lifeId: string, beat: { openSince: number | null; offsetMs: number; goodUntil: number; known: number }): Promise<void>;
  recovered(lifeId: string): Promise<void>;
  /** The life holds nothing anymore. */
  stopped(lifeId: string): Promise<void>;
  instanceStopped(instanceId: string): Promise<void>;
  /** Deletes lives that were not seen for so many days. */
  deleteFormer(days: number): Promise<void>;
  signsOf(lives: readonly string[]): Promise<Map<string, SignsOfLife>>;
  /** Renewals with a live lease: armed, and the owner has been silent for `silentMs`; or a later life of the owner's instance has recovered it. */
  leftBySilent(me: string, limits: { leaseMs: number; silentMs: number }, most: number): Promise<LeftRow[]>;
}

/** A later life of the instance of life `p` holds its data folder, and has replayed what it left. */
const SUCCEEDED = `EXISTS (
  SELECT 1 FROM replicas n WHERE n.instance_id = p.instance_id AND n.incarnation > p.incarnation AND n.recovered_at IS NOT NULL
)`;

export function replicaStore(database: Database): ReplicaStore {
  const table = defineTable(database, 'replicas', COLUMNS, { primaryKey: ['lifeId'] });
  return {
    all: () => table.list({}, { orderBy: 'startedAt' }),
    livesOf: (instanceId) => table.list({ instanceId }, { orderBy: 'startedAt' }),
    async lastIncarnation(instanceId) {
      const [former] = await database.select<{ most: number | bigint | null }>('SELECT MAX(incarnation) AS most FROM replicas WHERE instance_id = $1', [
        idBytes(instanceId),
      ]);
      return Number(former?.most ?? 0);
    },
    add: (row) => table.insert(row),
    beat: async (lifeId, { openSince, offsetMs, goodUntil, known }) =>
      void (await database.write(
        `UPDATE replicas SET seen_at = UTC_TIMESTAMP(3), open_since = $1, offset_ms = $2, known_mark = $3
         WHERE life_id = $4 AND UTC_TIMESTAMP(3) <= $5`,
        [openSince === null ? null : instantText(openSince), offsetMs, known, idBytes(lifeId), instantText(goodUntil)],
      )),
    recovered: async (lifeId) => void (await database.write('UPDATE replicas SET recovered_at = UTC_TIMESTAMP(3) WHERE life_id = $1', [idBytes(lifeId)])),
    stopped: async (lifeId) =>
      void (await database.write("UPDATE replicas SET roles = 'stopped', open_since = NULL, seen_at = UTC_TIMESTAMP(3) WHERE life_id = $1", [idBytes(lifeId)])),
    instanceStopped: async (instanceId) =>
      void (await database.write("UPDATE replicas SET roles = 'stopped', open_since = NULL WHERE instance_id = $1", [idBytes(instanceId)])),
    async deleteFormer(days) {
      // Found first, then removed by their ids: a range of `seen_at` would lock against the heartbeats of the living.
      const over = `seen_at < UTC_TIMESTAMP(3) - INTERVAL ${Math.floor(days)} DAY`;
      const former = await database.select<{ life_id: Buffer }>(`SELECT life_id FROM replicas WHERE ${over} LIMIT 1000`);
      for (const { life_id: lifeId } of former) await database.write(`DELETE FROM replicas WHERE life_id = $1 AND ${over}`, [lifeId]);
    },
    async signsOf(lives) {
      const bind: Bind[] = [];
      const list = lives.map((life) => `$${bind.push(idBytes(life))}`).join(', ');
      const rows = await database.select<{ life_id: Buffer; seen_at: Date; open_since: Date | null; succeeded: number | bigint }>(
        `SELECT p.life_id, p.seen_at, p.open_since,
           ${SUCCEEDED} OR p.roles = 'stopped' AS succeeded
         FROM replicas p WHERE p.life_id IN (${list})`,
        bind,
      );
      return new Map(
        rows.map((row) => [
          idText(row.life_id),
          { seenAt: row.seen_at.getTime(), openSince: row.open_since?.getTime() ?? null, succeeded: Number(row.succeeded) === 1 },
        ]),
      );
    },
    async leftBySilent(me, { leaseMs, silentMs }, most) {
      const rows = await database.select<{ grant_id: Buffer; owner: Buffer; dead: number | bigint; sent: number | bigint }>(
        `SELECT r.grant_id, r.owner, ${SUCCEEDED} AS dead, r.sent_epoch IS NOT NULL AS sent
         FROM renewals r JOIN replicas p ON p.life_id = r.owner
         WHERE r.next_at > UTC_TIMESTAMP(3) AND r.next_at <= UTC_TIMESTAMP(3) + ${intervalText(leaseMs)}
           AND r.lease_until > UTC_TIMESTAMP(3) AND p.life_id <> $1
           AND (${SUCCEEDED} OR r.sent_epoch IS NOT NULL AND p.seen_at < UTC_TIMESTAMP(3) - ${intervalText(silentMs)})
         LIMIT ${Math.floor(most)}`,
        [idBytes(me)],
      );
      return rows.map((row) => ({
        ...{ grantId: idText(row.grant_id), owner: idText(row.owner) },
        ...{ isDead: Number(row.dead) === 1, isSent: Number(row.sent) === 1 },
      }));
    },
  };
}
