import { timingSafeEqual } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import { boundedCache } from '../bounded-cache.ts';
import { hashOf } from '../hash.ts';
import type { Changes } from '../history/index.ts';
import type { Ports } from '../ports.ts';
import type { Definitions } from '../renewal/index.ts';
import type { CallerWithKeys } from '../store/callers.ts';
import type { Store } from '../store/store.ts';
import { type PermittedConnection, readPermitted, readPermittedOf, readPermittedPerson } from './permitted.ts';

/** A caller with its keys and everything that it may use, by name. */
export interface KnownCaller extends CallerWithKeys {
  connections: Map<string, PermittedConnection>;
}

/**
 * Callers with keys and permissions in memory, read once and dropped when any of it changes; where only a connection changed, that
 * connection alone is read again. No age ends them, so that issued tokens outlive a database that is away.
 */
export interface CallerDirectory {
  /** The caller of this id, or null. One database read at the first sight of an id, none afterwards. */
  find(callerId: string): Promise<KnownCaller | null>;
  /** The caller whose id and key these are, or null. */
  check(callerId: string, key: string): Promise<{ caller: KnownCaller; keyId: string } | null>;
  /** The same among those that were read already. */
  checkKnown(callerId: string, key: string): { caller: KnownCaller; keyId: string } | null;
  /** A person of a shared connection that the caller may use, by the application's own key; null: none. Null as well for what is not its own. */
  person(caller: KnownCaller, connection: string, key: string): Promise<PermittedConnection | null>;
  /** Whether a caller has this further token path. Read when something changed; an answer from memory. */
  hasTokenPath(path: string): boolean;
  /** Whether a tool without a secret runs at this origin, by its redirect URIs. From memory, like the paths. */
  hasOrigin(origin: string): boolean;
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
/** When more than this changed, the caller is read again. */
const MAX_STALE = 200;
const READ_AGAIN_MS = 2_000;
const PEOPLE_KEPT = 50_000;

export function callerDirectory(deps: {
  store: Pick<Store, 'callers' | 'definitionUses'>;
  changes: Changes;
  definitions: Definitions;
  ports: Pick<Ports, 'clock' | 'log'>;
}): CallerDirectory {
  const { store, changes, definitions, ports } = deps;
  const known = new LRUCache<string, Kept>(boundedCache(20_000));
  const loading = new Map<string, { epoch: number; reading: Promise<KnownCaller | null> }>();
  let epoch = 0;
  let tokenPaths = new Set<string>();
  let origins = new Set<string>();
  const readTokenPaths = async (): Promise<void> => {
    const [paths, redirects] = await Promise.all([store.callers.tokenPaths(), store.callers.publicRedirectUris()]);
    tokenPaths = new Set(paths);
    origins = new Set(redirects.filter((uri) => /^https?:/.test(uri)).map((uri) => new URL(uri).origin));
  };
  const keepTokenPaths = (): void =>
    void readTokenPaths().catch((cause: unknown) => {
      ports.log.debug({ event: 'callers.token_paths_not_read', cause: String(cause) }, 'token paths not read');
      setTimeout(keepTokenPaths, READ_AGAIN_MS).unref(); // the database is away; once it is back they are read
    });
  keepTokenPaths();
  changes.onChange((kind, subject) => {
    if (kind === 'quota') return; // it shows nothing of callers
    epoch += 1;
    if (kind === 'connection' && subject !== '*') markStale(subject);
    else known.clear();
    if (kind === 'caller' || kind === 'connection') keepTokenPaths(); // `connection *` says that news may have been missed
  });
  /** A change of one connection: whoever may use it, or may come to use it by a label, reads it again before it is requested anything. */
  const markStale = (name: string): void => {
    for (const [callerId, kept] of [...known.entries()]) {
      if (kept.caller === null || !(kept.caller.byLabel || kept.caller.connections.has(name))) continue;
      kept.stale ??= new Map();
      kept.stale.set(name, epoch);
      if (kept.stale.size > MAX_STALE) known.delete(callerId);
    }
  };
  const load = async (callerId: string): Promise<KnownCaller | null> => {
    const before = epoch;
    const caller = await readCaller(store, definitions, callerId);
    // A change that came while we read makes what we read doubtful: use it once, do not keep it.
    if (before === epoch) known.set(callerId, { caller, stale: null }, caller ? {} : { ttl: UNKNOWN_KEPT_MS });
    return caller;
  };
  const refresh = async (kept: Kept, caller: KnownCaller, stale: Map<string, number>): Promise<KnownCaller> => {
    const before = epoch;
    const names = [...stale.keys()];
    const fresh = await readPermittedOf(store.definitionUses, definitions, caller.id, names);
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
  /** Good only while nothing changed: a person's consent or loss is a change like any other. */
  const people = new LRUCache<string, { epoch: number; one: PermittedConnection }>(boundedCache(PEOPLE_KEPT));
  const person = async (caller: KnownCaller, connection: string, key: string): Promise<PermittedConnection | null> => {
    const hash = hashOf(key);
    const at = `${caller.id} ${connection} ${hash.toString('base64')}`;
    const kept = people.get(at);
    if (kept && kept.epoch === epoch) return kept.one;
    const before = epoch;
    const one = await readPermittedPerson(store.definitionUses, definitions, caller.id, { connection, hash });
    if (one && before === epoch) people.set(at, { epoch, one });
    return one;
  };
  const ready = (callerId: string): KnownCaller | null => {
    const kept = known.get(callerId);
    return kept && !kept.stale ? kept.caller : null;
  };
  const matching = (caller: KnownCaller | null, key: string): { caller: KnownCaller; keyId: string } | null => {
    if (!caller) return null;
    const given = hashOf(key);
    const match = caller.keys.find((one) => timingSafeEqual(one.hash, given) && (one.endsAt === null || one.endsAt > ports.clock.now()));
    return match ? { caller, keyId: match.id } : null;
  };
  return {
    epoch: () => epoch,
    hasTokenPath: (path) => tokenPaths.has(path),
    hasOrigin: (origin) => origins.has(origin),
    find,
    person,
    check: async (callerId, key) => matching(ready(callerId) ?? (await find(callerId)), key),
    checkKnown: (callerId, key) => matching(ready(callerId), key),
  };
}

async function readCaller(store: Pick<Store, 'callers' | 'definitionUses'>, definitions: Definitions, callerId: string): Promise<KnownCaller | null> {
  const caller = await store.callers.withKeys(callerId);
  return caller && { ...caller, connections: await readPermitted(store.definitionUses, definitions, caller.id) };
}
