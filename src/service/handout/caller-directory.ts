import { hash, timingSafeEqual } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import type { Changes } from '../changes.ts';
import type { Definitions } from '../renewal/definitions.ts';
import { type Database, idBytes, idText } from '../store/database.ts';
import { chooseHandoutExtras, type ExtrasRow } from './extras.ts';

/** A connection as the hot path needs it. */
export interface PermittedConnection {
  id: string;
  name: string;
  intent: string;
  grantId: string | null;
  /** As the token answer names it: scopes, separated by spaces. */
  scope: string;
  /** Further members of the token answer, as JSON after a comma: what a dialect's callers need; mostly empty. */
  extras: string;
}

export interface KnownCaller {
  id: string;
  name: string;
  callerId: string;
  keys: { id: string; hash: Buffer }[];
  connections: Map<string, PermittedConnection>;
}

/** Callers with keys and permissions in memory, read once and dropped when any of it changes: no age ends them, so that handouts outlive a database that is away. */
export interface CallerDirectory {
  /** The caller whose id and key these are, or null. One database read at the first sight of an id, none afterwards. */
  check(callerId: string, key: string): Promise<{ caller: KnownCaller; keyId: string } | null>;
  /** Grows with each change that was heard of: an answer that waited across one must be checked again. */
  epoch(): number;
}

const UNKNOWN_KEPT_MS = 2_000;

export const hashKey = (key: string): Buffer => hash('sha256', key, 'buffer');

export function callerDirectory(deps: { database: Database; changes: Changes; definitions: Definitions }): CallerDirectory {
  const { database, changes, definitions } = deps;
  const known = new LRUCache<string, { caller: KnownCaller | null }>({ max: 20_000 });
  const loading = new Map<string, Promise<KnownCaller | null>>();
  let epoch = 0;
  changes.onChange(() => {
    epoch += 1;
    known.clear();
  });
  const load = async (callerId: string): Promise<KnownCaller | null> => {
    const before = epoch;
    const caller = await readCaller(database, definitions, callerId);
    // A change that came while we read makes what we read doubtful: use it once, do not keep it.
    if (before === epoch) known.set(callerId, { caller }, caller ? {} : { ttl: UNKNOWN_KEPT_MS });
    return caller;
  };
  return {
    epoch: () => epoch,
    async check(callerId, key) {
      const kept = known.get(callerId);
      let caller = kept?.caller ?? null;
      if (!kept) {
        let reading = loading.get(callerId);
        if (!reading) {
          reading = load(callerId).finally(() => loading.delete(callerId));
          loading.set(callerId, reading);
        }
        caller = await reading;
      }
      const given = hashKey(key);
      const match = caller?.keys.find((one) => timingSafeEqual(one.hash, given));
      return caller && match ? { caller, keyId: match.id } : null;
    },
  };
}

interface StoredConnection extends ExtrasRow {
  id: Buffer;
  name: string;
  intent: string;
  grant_id: Buffer | null;
  scopes: string | null;
}

async function readCaller(database: Database, definitions: Definitions, callerId: string): Promise<KnownCaller | null> {
  const keys = await database.select<{ id: Buffer; name: string; key_id: Buffer | null; hash: Buffer | null }>(
    `SELECT c.id, c.name, k.id AS key_id, k.hash FROM callers c LEFT JOIN caller_keys k ON k.caller_id = c.id AND (k.ends_at IS NULL OR k.ends_at > UTC_TIMESTAMP(3)) WHERE c.caller_id = $1`,
    [callerId],
  );
  const [first] = keys;
  if (!first) return null;
  const connections = await database.select<StoredConnection>(
    `SELECT k.id, k.name, k.intent, k.placeholders AS own_placeholders, g.id AS grant_id, g.kind, g.scopes, g.api_base_url, c.environment, c.variant, c.rehearsal_port, c.placeholders, c.trusted_origins, v.version_id
     FROM permissions p JOIN connections k ON k.id = p.connection_id JOIN clients c ON c.id = k.client_id JOIN providers v ON v.id = c.provider_id LEFT JOIN grants g ON g.id = k.current_grant_id WHERE p.caller_id = $1`,
    [idBytes(idText(first.id))],
  );
  // One text for all connections of the same scopes: a caller may have a hundred thousand.
  const texts = new Map<string, string>();
  const scopeOf = (stored: string | null): string => {
    const text = texts.get(stored ?? '') ?? (stored ? (JSON.parse(stored) as string[]).join(' ') : '');
    texts.set(stored ?? '', text);
    return text;
  };
  const extras = await chooseHandoutExtras(connections, definitions);
  return {
    id: idText(first.id),
    name: first.name,
    callerId,
    keys: keys.flatMap((row) => (row.key_id && row.hash ? [{ id: idText(row.key_id), hash: row.hash }] : [])),
    connections: new Map(
      connections.map((row) => [
        row.name,
        {
          id: idText(row.id),
          name: row.name,
          intent: row.intent,
          grantId: row.grant_id ? idText(row.grant_id) : null,
          scope: scopeOf(row.scopes),
          extras: extras(row),
        },
      ]),
    ),
  };
}
