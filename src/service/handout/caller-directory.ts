import { hash, timingSafeEqual } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import type { Changes } from '../changes.ts';
import type { Ports } from '../ports.ts';
import type { Definitions } from '../renewal/definitions.ts';
import { type Database, idBytes, idText } from '../store/database.ts';
import { type PermittedConnection, readPermitted, readPermittedOf } from './permitted.ts';

export interface KnownCaller {
  id: string;
  name: string;
  callerId: string;
  /** Its own further token path, or null. */
  tokenPath: string | null;
  redirectUris: string[];
  /** A tool that cannot keep a key: at the door, PKCE alone proves it. */
  keepsNoSecret: boolean;
  /** Some of what it may use is permitted by label: a connection may come to it or leave it by its labels. */
  byLabel: boolean;
  keys: { id: string; hash: Buffer; endsAt: number | null }[];
  connections: Map<string, PermittedConnection>;
}

/**
 * Callers with keys and permissions in memory, read once and dropped when any of it changes; where only a connection changed, that
 * connection alone is read again. No age ends them, so that handouts outlive a database that is away.
 */
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

/** One caller in memory; null: there is none of this id. */
interface Kept {
  caller: KnownCaller | null;
  /** Names of connections that changed, each with the epoch of its change; null: none. */
  stale: Map<string, number> | null;
}

const UNKNOWN_KEPT_MS = 2_000;
/** When more than this changed, the caller is read anew. */
const STALE_MOST = 200;
const READ_AGAIN_MS = 2_000;

export const hashKey = (key: string): Buffer => hash('sha256', key, 'buffer');

export function callerDirectory(deps: {
  database: Database;
  changes: Changes;
  definitions: Definitions;
  ports: Pick<Ports, 'clock' | 'log'>;
}): CallerDirectory {
  const { database, changes, definitions, ports } = deps;
  const known = new LRUCache<string, Kept>({ max: 20_000 });
  const loading = new Map<string, { epoch: number; reading: Promise<KnownCaller | null> }>();
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
  changes.onChange((kind, subject) => {
    if (kind === 'quota') return; // it says nothing of callers
    epoch += 1;
    if (kind === 'connection' && subject !== '*') markStale(subject);
    else known.clear();
    if (kind === 'caller' || kind === 'connection') keepTokenPaths(); // `connection *` says that news may have been missed
  });
  /** A change of one connection: whoever may use it, or may come to use it by a label, reads it again before it is asked for anything. */
  const markStale = (name: string): void => {
    for (const [callerId, kept] of [...known.entries()]) {
      if (kept.caller === null || !(kept.caller.byLabel || kept.caller.connections.has(name))) continue;
      kept.stale ??= new Map();
      kept.stale.set(name, epoch);
      if (kept.stale.size > STALE_MOST) known.delete(callerId);
    }
  };
  const load = async (callerId: string): Promise<KnownCaller | null> => {
    const before = epoch;
    const caller = await readCaller(database, definitions, callerId);
    // A change that came while we read makes what we read doubtful: use it once, do not keep it.
    if (before === epoch) known.set(callerId, { caller, stale: null }, caller ? {} : { ttl: UNKNOWN_KEPT_MS });
    return caller;
  };
  const refresh = async (kept: Kept, caller: KnownCaller, stale: Map<string, number>): Promise<KnownCaller> => {
    const before = epoch;
    const names = [...stale.keys()];
    const fresh = await readPermittedOf(database, definitions, idBytes(caller.id), names);
    for (const name of names) {
      const markedAt = stale.get(name);
      // Read again since, or changed again while we read: what we hold may be older than what is there.
      if (markedAt === undefined || markedAt > before) continue;
      const one = fresh.get(name);
      if (one) caller.connections.set(name, one);
      else caller.connections.delete(name);
      stale.delete(name);
    }
    if (stale.size === 0 && kept.stale === stale) kept.stale = null;
    return caller;
  };
  const find = async (callerId: string): Promise<KnownCaller | null> => {
    const kept = known.get(callerId);
    if (kept && !kept.stale) return kept.caller;
    const present = loading.get(callerId);
    if (present?.epoch === epoch) return present.reading; // one that began before a change may not have seen it
    const reading = (kept?.caller && kept.stale ? refresh(kept, kept.caller, kept.stale) : load(callerId)).finally(() => {
      if (loading.get(callerId)?.reading === reading) loading.delete(callerId);
    });
    loading.set(callerId, { epoch, reading });
    return reading;
  };
  const ready = (callerId: string): KnownCaller | null => {
    const kept = known.get(callerId);
    return kept && !kept.stale ? kept.caller : null;
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
    check: async (callerId, key) => matching(ready(callerId) ?? (await find(callerId)), key),
    checkKnown: (callerId, key) => matching(ready(callerId), key),
  };
}

async function readCaller(database: Database, definitions: Definitions, callerId: string): Promise<KnownCaller | null> {
  const keys = await database.select<{
    id: Buffer;
    name: string;
    token_path: string | null;
    redirect_uris: string | null;
    keeps_no_secret: number;
    by_label: number | bigint;
    key_id: Buffer | null;
    hash: Buffer | null;
    ends_at: Date | null;
  }>(
    `SELECT c.id, c.name, c.token_path, c.redirect_uris, c.keeps_no_secret, EXISTS (SELECT 1 FROM permissions p WHERE p.caller_id = c.id AND p.label IS NOT NULL) AS by_label, k.id AS key_id, k.hash, k.ends_at FROM callers c LEFT JOIN caller_keys k ON k.caller_id = c.id AND (k.ends_at IS NULL OR k.ends_at > UTC_TIMESTAMP(3)) WHERE c.caller_id = $1`,
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
    byLabel: Number(first.by_label) === 1,
    keys: keys.flatMap((row) => (row.key_id && row.hash ? [{ id: idText(row.key_id), hash: row.hash, endsAt: row.ends_at?.getTime() ?? null }] : [])),
    connections: await readPermitted(database, definitions, first.id),
  };
}
