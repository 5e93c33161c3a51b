import { type ChainedEntry, type ChainPoint, chainStart } from '../../core/activity/chain.ts';
import { type Database, idBytes, idText, instantText } from './database.ts';

/** A chain as far as it is kept: from its base, where retention has cut, to its head. */
export interface Chain {
  id: string;
  routine: boolean;
  startedAt: number;
  base: ChainPoint;
  /** Null: nothing was cut. */
  baseProof: Buffer | null;
  head: ChainPoint;
  headProof: Buffer;
}

/** Chains of the activity log: for verification and retention. Instants are epoch ms. */
export interface ChainStore {
  /** The oldest first. */
  list(): Promise<Chain[]>;
  entries(chainId: string, after: number, upTo: number, most: number): Promise<ChainedEntry[]>;
  /** The hash of one entry; null: it is not there. */
  hashAt(chainId: string, sequence: number): Promise<Buffer | null>;
  /** Heads of all chains, the oldest chain first. */
  heads(): Promise<{ chainId: string; point: ChainPoint }[]>;
  /** Entries that stand in no chain, or in one that is not known; of the latter one. */
  outside(): Promise<{ unchained: number; newestAt: number | null; foreign: { id: string; at: number } | null }>;
  /** The last entry that is older than that, with none younger before it; null: there is none. */
  lastOlder(chain: Pick<Chain, 'id' | 'base' | 'head'>, before: number, most: number): Promise<ChainPoint | null>;
  /** Removes entries up to a place, which becomes the base. How many. */
  cut(chainId: string, upTo: ChainPoint, proof: Buffer): Promise<number>;
  /** Removes renewals, or all entries, of earlier versions, which stand in no chain. How many. */
  cutUnchained(what: 'renewals' | 'all', before: number, most: number): Promise<number>;
}

export function chainStore(database: Database): ChainStore {
  const number = (value: unknown) => Number(value ?? 0);
  return {
    async list() {
      const rows = await database.select<Record<string, unknown>>(
        'SELECT id, routine, started_at, base_sequence, base_hash, base_proof, head_sequence, head_hash, head_proof FROM history_chains ORDER BY started_at, id',
      );
      return rows.map((row) => {
        const id = idText(row.id as Buffer);
        const cut = row.base_hash as Buffer | null;
        return {
          id,
          routine: number(row.routine) === 1,
          startedAt: (row.started_at as Date).getTime(),
          base: cut === null ? chainStart(id) : { sequence: number(row.base_sequence), hash: cut },
          baseProof: row.base_proof as Buffer | null,
          head: { sequence: number(row.head_sequence), hash: row.head_hash as Buffer },
          headProof: row.head_proof as Buffer,
        };
      });
    },
    async entries(chainId, after, upTo, most) {
      const rows = await database.select<Record<string, unknown>>(
        `SELECT id, at, actor, kind, subject, says, data, routine, request_id, address, sequence, hash FROM history
         WHERE chain_id = $1 AND sequence > $2 AND sequence <= $3 ORDER BY sequence LIMIT ${Math.floor(most)}`,
        [idBytes(chainId), after, upTo],
      );
      return rows.map((row) => ({
        id: idText(row.id as Buffer),
        at: (row.at as Date).getTime(),
        actor: String(row.actor),
        kind: String(row.kind),
        subject: String(row.subject),
        says: String(row.says),
        data: String(row.data),
        routine: number(row.routine) === 1,
        requestId: row.request_id as string | null,
        address: row.address as string | null,
        sequence: number(row.sequence),
        hash: (row.hash as Buffer | null) ?? Buffer.alloc(0),
      }));
    },
    async hashAt(chainId, sequence) {
      const [row] = await database.select<{ hash: Buffer | null }>('SELECT hash FROM history WHERE chain_id = $1 AND sequence = $2 LIMIT 1', [
        idBytes(chainId),
        sequence,
      ]);
      return row?.hash ?? null;
    },
    async heads() {
      const rows = await database.select<{ id: Buffer; head_sequence: unknown; head_hash: Buffer }>(
        'SELECT id, head_sequence, head_hash FROM history_chains ORDER BY id',
      );
      return rows.map((row) => ({ chainId: idText(row.id), point: { sequence: number(row.head_sequence), hash: row.head_hash } }));
    },
    async outside() {
      const [[unchained], [foreign]] = await Promise.all([
        database.select<{ n: unknown; newest: Date | null }>('SELECT COUNT(*) AS n, MAX(at) AS newest FROM history WHERE chain_id IS NULL'),
        database.select<{ id: Buffer; at: Date }>(
          `SELECT h.id, h.at FROM (SELECT DISTINCT chain_id FROM history WHERE chain_id IS NOT NULL) d
           LEFT JOIN history_chains c ON c.id = d.chain_id JOIN history h ON h.chain_id = d.chain_id WHERE c.id IS NULL LIMIT 1`,
        ),
      ]);
      return {
        unchained: number(unchained?.n),
        newestAt: unchained?.newest?.getTime() ?? null,
        foreign: foreign ? { id: idText(foreign.id), at: foreign.at.getTime() } : null,
      };
    },
    async lastOlder({ id, base, head }, before, most) {
      const end = Math.min(base.sequence + most, head.sequence);
      const [younger] = await database.select<{ sequence: unknown }>(
        'SELECT MIN(sequence) AS sequence FROM history WHERE chain_id = $1 AND sequence > $2 AND sequence <= $3 AND at >= $4',
        [idBytes(id), base.sequence, end, instantText(before)],
      );
      const last = younger?.sequence == null ? end : number(younger.sequence) - 1;
      if (last <= base.sequence) return null;
      const [row] = await database.select<{ hash: Buffer }>('SELECT hash FROM history WHERE chain_id = $1 AND sequence = $2', [idBytes(id), last]);
      return row ? { sequence: last, hash: row.hash } : null;
    },
    cut: (chainId, { sequence, hash }, proof) =>
      database.transaction(async (transaction) => {
        await database.write(
          'UPDATE history_chains SET base_sequence = $1, base_hash = $2, base_proof = $3 WHERE id = $4 AND base_sequence < $1',
          [sequence, hash, proof, idBytes(chainId)],
          transaction,
        );
        return database.write('DELETE FROM history WHERE chain_id = $1 AND sequence <= $2', [idBytes(chainId), sequence], transaction);
      }),
    cutUnchained: (what, before, most) =>
      database.write(`DELETE FROM history WHERE chain_id IS NULL AND at < $1 ${what === 'renewals' ? "AND kind = 'renewed'" : ''} LIMIT ${Math.floor(most)}`, [
        instantText(before),
      ]),
  };
}
