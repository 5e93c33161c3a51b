import { hash, timingSafeEqual } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import type { Changes } from '../changes.ts';
import type { Ports } from '../ports.ts';
import type { Definitions } from '../renewal/definitions.ts';
import { type Database, idText } from '../store/database.ts';
import { type PermittedConnection, readPermitted } from './permitted.ts';

export interface KnownCaller {
  id: string;
  name: string;
  callerId: string;
  /** Its own further token path, or null. */
  tokenPath: string | null;
  redirectUris: string[];
  /** A tool that cannot keep a key: at the door, PKCE alone proves it. */
  keepsNoSecret: boolean;
  keys: { id: string; hash: Buffer; endsAt: number | null }[];
  connections: Map<string, PermittedConnection>;
}

/** Callers with keys and permissions in memory, read once and dropped when any of it changes: no age ends them, so that handouts outlive a database that is away. */
export interface CallerDirectory {
  /** The caller of this id, or null. One database read at the first sight of an id, none afterwards. */
  find(callerId: string): Promise<KnownCaller | null>;
  /** The caller whose id and key these are, or null. */
  check(callerId: string, key: string): Promise<{ caller: KnownCaller; keyId: string } | null>;
  /** The same among those that were read already. */
  checkKnown(callerId: string, key: string): { caller: KnownCaller; keyId: string } | null;
  /** Whether a caller has this further token path. Read when something changed; an answer from memory. */
  hasTokenPath(path: string): boolean;
  /** Grows with each change that was heard of: an answer that waited across one must be checked again. */
  epoch(): number;
}

const UNKNOWN_KEPT_MS = 2_000;
const READ_AGAIN_MS = 2_000;

export const hashKey = (key: string): Buffer => hash('sha256', key, 'buffer');

export function callerDirectory(deps: {
  database: Database;
  changes: Changes;
  definitions: Definitions;
  ports: Pick<Ports, 'clock' | 'log'>;
}): CallerDirectory {
  const { database, changes, definitions, ports } = deps;
  const known = new LRUCache<string, { caller: KnownCaller | null }>({ max: 20_000 });
  const loading = new Map<string, Promise<KnownCaller | null>>();
  let epoch = 0;
  let tokenPaths = new Set<string>();
  const readTokenPaths = async (): Promise<void> => {
    const rows = await database.select<{ token_path: string }>('SELECT token_path FROM callers WHERE token_path IS NOT NULL');
    tokenPaths = new Set(rows.map((row) => row.token_path));
  };
  const keepTokenPaths = (): void =>
    void readTokenPaths().catch((cause: unknown) => {
      ports.log.debug({ cause: String(cause) }, 'token paths not read');
      setTimeout(keepTokenPaths, READ_AGAIN_MS).unref(); // the database is away; once it is back they are read
    });
  keepTokenPaths();
  changes.onChange((kind) => {
    if (kind === 'quota') return; // it says nothing of callers
    epoch += 1;
    known.clear();
    if (kind === 'caller' || kind === 'connection') keepTokenPaths(); // `connection *` says that news may have been missed
  });
  const load = async (callerId: string): Promise<KnownCaller | null> => {
    const before = epoch;
    const caller = await readCaller(database, definitions, callerId);
    // A change that came while we read makes what we read doubtful: use it once, do not keep it.
    if (before === epoch) known.set(callerId, { caller }, caller ? {} : { ttl: UNKNOWN_KEPT_MS });
    return caller;
  };
  const find = async (callerId: string): Promise<KnownCaller | null> => {
    const kept = known.get(callerId);
    if (kept) return kept.caller;
    let reading = loading.get(callerId);
    if (!reading) {
      reading = load(callerId).finally(() => loading.delete(callerId));
      loading.set(callerId, reading);
    }
    return reading;
  };
  const matching = (caller: KnownCaller | null, key: string): { caller: KnownCaller; keyId: string } | null => {
    if (!caller) return null;
    const given = hashKey(key);
    const match = caller.keys.find((one) => timingSafeEqual(one.hash, given) && (one.endsAt === null || one.endsAt > ports.clock.now()));
    return match ? { caller, keyId: match.id } : null;
  };
  return {
    epoch: () => epoch,
    hasTokenPath: (path) => tokenPaths.has(path),
    find,
    check: async (callerId, key) => matching(known.get(callerId)?.caller ?? (await find(callerId)), key),
    checkKnown: (callerId, key) => matching(known.get(callerId)?.caller ?? null, key),
  };
}

async function readCaller(database: Database, definitions: Definitions, callerId: string): Promise<KnownCaller | null> {
  const keys = await database.select<{
    id: Buffer;
    name: string;
    token_path: string | null;
    redirect_uris: string | null;
    keeps_no_secret: number;
    key_id: Buffer | null;
    hash: Buffer | null;
    ends_at: Date | null;
  }>(
    `SELECT c.id, c.name, c.token_path, c.redirect_uris, c.keeps_no_secret, k.id AS key_id, k.hash, k.ends_at FROM callers c LEFT JOIN caller_keys k ON k.caller_id = c.id AND (k.ends_at IS NULL OR k.ends_at > UTC_TIMESTAMP(3)) WHERE c.caller_id = $1`,
    [callerId],
  );
  const [first] = keys;
  if (!first) return null;
  return {
    id: idText(first.id),
    name: first.name,
    callerId,
    tokenPath: first.token_path,
    redirectUris: JSON.parse(first.redirect_uris ?? '[]') as string[],
    keepsNoSecret: Boolean(first.keeps_no_secret),
    keys: keys.flatMap((row) => (row.key_id && row.hash ? [{ id: idText(row.key_id), hash: row.hash, endsAt: row.ends_at?.getTime() ?? null }] : [])),
    connections: await readPermitted(database, definitions, first.id),
  };
}
