import { type ChainedEntry, type ChainPoint, chainStart } from '../../core/activity/chain.ts';
import { bytes, flag, id, instant, number, orElse, orNull, rowReader, text } from './column.ts';
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

const readChain = rowReader(
  'history_chains',
  {
    ...{ id, routine: flag, startedAt: instant, baseSequence: orElse(number, 0), baseHash: orNull(bytes), baseProof: orNull(bytes) },
    ...{ headSequence: number, headHash: bytes, headProof: bytes },
  },
  'id',
);
const readEntry = rowReader(
  'history',
  {
    ...{ id, at: instant, actor: text, kind: text, subject: text, says: text, data: text, routine: flag, requestId: orNull(text), address: orNull(text) },
    ...{ sequence: number, hash: orElse(bytes, Buffer.alloc(0)) },
  },
  'id',
);

export function chainStore(database: Database): ChainStore {
  const number = (value: unknown) => Number(value ?? 0);
  return {
    async list() {
      const rows = await database.select(
        `SELECT id, routine, started_at AS startedAt, base_sequence AS baseSequence, base_hash AS baseHash, base_proof AS baseProof,
           head_sequence AS headSequence, head_hash AS headHash, head_proof AS headProof FROM history_chains ORDER BY started_at, id`,
      );
      return rows.map(readChain).map(({ baseSequence, baseHash, headSequence, headHash, ...chain }) => ({
        ...chain,
        base: baseHash === null ? chainStart(chain.id) : { sequence: baseSequence, hash: baseHash },
        head: { sequence: headSequence, hash: headHash },
      }));
    },
    async entries(chainId, after, upTo, most) {
      const rows = await database.select(
        `SELECT id, at, actor, kind, subject, says, data, routine, request_id AS requestId, address, sequence, hash FROM history
         WHERE chain_id = $1 AND sequence > $2 AND sequence <= $3 ORDER BY sequence LIMIT ${Math.floor(most)}`,
        [idBytes(chainId), after, upTo],
      );
      return rows.map(readEntry);
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
