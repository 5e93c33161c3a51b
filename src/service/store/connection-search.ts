import { type Bind, type Database, idBytes, idText, instantText } from './database.ts';

/**
 * Which connections a search may find, known in memory: to read a hundred thousand texts for each search takes the database 0.1 s.
 * Before each search, what changed since the last one is read. The database has the last word on each text.
 */
export interface ConnectionSearch {
  /** IDs of connections whose text may contain this, those that do among them; null: too many to name, or not read yet. */
  among(text: string): Promise<string[] | null>;
}

/** Texts as they were read; instants of the database, epoch ms. */
interface Known {
  ids: string[];
  texts: string[];
  places: Map<string, number>;
  readAt: number;
  /** Of `performance.now()`. */
  loadedAt: number;
}
interface TextRow {
  id: Buffer;
  weights: Buffer;
}

/** More would be a long statement; then the database searches as well. */
const MAX_FOUND = 2_000;
const PAGE = 5_000;
/** More texts are not kept in memory: about 100 bytes each. */
const MAX_KNOWN = 300_000;
/** Removed connections leave with the next reading of all. */
const RELOAD_AFTER_MS = 3_600_000;
/** A statement carries the instant at which it began, and is seen when it is committed: a text is one statement of 5 s at most. */
const OVERLAP_MS = 10_000;
/** Longer than the overlap, in which the same changes would be too many once more. */
const AGAIN_AFTER_MS = 15_000;

/** Half of a character beyond the first 65,536: no text in the database holds one. */
const HALF_CHARACTER = /\p{Surrogate}/u;

const WEIGHTS = 'WEIGHT_STRING(search_text)';

/**
 * One character for each of a text. What is equal to the database, whatever its case and accents, has equal weights, so it is equal here;
 * two weights of two bytes may become the same character.
 */
function folded(weights: Buffer): string {
  const characters = Buffer.allocUnsafe(weights.length >> 1);
  for (let at = 0; at < characters.length; at += 1) characters[at] = (weights[2 * at] ?? 0) ^ (weights[2 * at + 1] ?? 0);
  return characters.toString('latin1');
}

function put(known: Known, rows: readonly TextRow[]): void {
  for (const row of rows) {
    const id = idText(row.id);
    const place = known.places.get(id) ?? known.ids.push(id) - 1;
    known.places.set(id, place);
    known.texts[place] = folded(row.weights);
  }
}

export function connectionSearch(database: Database): ConnectionSearch {
  let known: Known | null = null;
  let isLoading = false;
  /** When to read all again where that failed or too much changed, of `performance.now()`. */
  let notBefore = 0;
  let lastTurn: Promise<unknown> = Promise.resolve();

  const load = async (): Promise<Known | null> => {
    const [now] = await database.select<{ at: Date }>('SELECT UTC_TIMESTAMP(3) AS at');
    const next: Known = { ids: [], texts: [], places: new Map(), readAt: now?.at.getTime() ?? 0, loadedAt: performance.now() };
    for (let after: Buffer | undefined = idBytes('00000000-0000-0000-0000-000000000000'); after !== undefined && next.ids.length <= MAX_KNOWN; ) {
      const rows: TextRow[] = await database.select<TextRow>(`SELECT id, ${WEIGHTS} AS weights FROM connections WHERE id > $1 ORDER BY id LIMIT ${PAGE}`, [
        after,
      ]);
      put(next, rows);
      after = rows.length < PAGE ? undefined : rows.at(-1)?.id;
    }
    return next.ids.length <= MAX_KNOWN ? next : null;
  };
  /** In the background, one at a time. What fails here fails in the search itself as well, which reports it. */
  const startLoading = async (): Promise<void> => {
    if (isLoading || performance.now() < notBefore) return;
    isLoading = true;
    const next = await load().catch(() => null);
    isLoading = false;
    if (next) known = next;
    else notBefore = performance.now() + AGAIN_AFTER_MS;
  };
  /** Reads what changed, and the weights of what is searched for; null: too much changed. */
  const catchUp = async (at: Known, text: string): Promise<string | null> => {
    const bind: Bind[] = [text, instantText(at.readAt - OVERLAP_MS)];
    const [first, ...changed] = await database.select<{ id: Buffer | null; weights: Buffer; at: Date | null }>(
      `SELECT NULL AS id, WEIGHT_STRING(CONVERT($1 USING utf8mb4) COLLATE utf8mb4_general_ci) AS weights, UTC_TIMESTAMP(3) AS at
       UNION ALL (SELECT id, ${WEIGHTS}, NULL FROM connections WHERE changed_at >= $2 LIMIT ${PAGE})`,
      bind,
    );
    if (!first || changed.length === PAGE) return null;
    put(at, changed as TextRow[]);
    at.readAt = Math.max(at.readAt, first.at?.getTime() ?? 0);
    return folded(first.weights);
  };
  /** One after the other, so that no text is replaced by one that was read before it. */
  const inTurn = <T>(work: () => Promise<T>): Promise<T> => {
    const turn = lastTurn.then(work, work);
    lastTurn = turn.catch(() => undefined); // whoever asked for it gets the error
    return turn;
  };
  return {
    async among(text) {
      if (HALF_CHARACTER.test(text)) return null; // the driver writes it in its own way: the database alone compares
      const at = known;
      if (at === null || performance.now() - at.loadedAt > RELOAD_AFTER_MS) void startLoading();
      if (at === null) return null;
      const wanted = await inTurn(() => catchUp(at, text));
      if (wanted === null) {
        if (known === at) known = null;
        notBefore = performance.now() + AGAIN_AFTER_MS;
        return null;
      }
      const found: string[] = [];
      for (let place = 0; place < at.texts.length; place += 1) {
        if (!at.texts[place]?.includes(wanted)) continue;
        if (found.length === MAX_FOUND) return null;
        found.push(at.ids[place] as string);
      }
      return found;
    },
  };
}
