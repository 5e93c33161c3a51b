import { hash, timingSafeEqual } from 'node:crypto';
import { LRUCache } from 'lru-cache';
import { mayFetch, type Permission, type Use } from '../../core/callers/permissions.ts';
import type { Changes } from '../changes.ts';
import type { Ports } from '../ports.ts';
import type { Definitions } from '../renewal/definitions.ts';
import { type Database, idText } from '../store/database.ts';
import { connectionSetUps, type SetUp, type SetUpRow } from './set-up.ts';

/** A connection as the hot path needs it. */
export interface PermittedConnection {
  id: string;
  name: string;
  intent: string;
  grantId: string | null;
  /** The client through which its tokens came. */
  clientRecordId: string;
  /** As the token answer names it: scopes, separated by spaces. */
  scope: string;
  setUp: SetUp;
  /** All that are given, by name and by label: any one is enough. */
  permissions: Permission[];
  mayFetch: boolean;
}

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
  return {
    epoch: () => epoch,
    hasTokenPath: (path) => tokenPaths.has(path),
    find,
    async check(callerId, key) {
      const caller = known.get(callerId)?.caller ?? (await find(callerId));
      if (!caller) return null;
      const given = hashKey(key);
      const match = caller.keys.find((one) => timingSafeEqual(one.hash, given) && (one.endsAt === null || one.endsAt > ports.clock.now()));
      return match ? { caller, keyId: match.id } : null;
    },
  };
}

interface StoredConnection extends SetUpRow {
  id: Buffer;
  name: string;
  intent: string;
  grant_id: Buffer | null;
  client_record: Buffer;
  scopes: string | null;
  use_as: string;
  methods: string | null;
  paths: string | null;
  share: number | null;
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
  const rows = await database.select<StoredConnection>(
    `SELECT q.use_as, q.methods, q.paths, q.share, k.id, k.name, k.intent, COALESCE(g.placeholders, k.placeholders) AS own_placeholders, g.id AS grant_id, g.kind, g.scopes, g.api_base_url, c.id AS client_record, c.environment, c.variant, c.rehearsal_port, c.placeholders, c.trusted_origins, v.version_id
     FROM (SELECT connection_id, use_as, methods, paths, share FROM permissions WHERE caller_id = $1 AND connection_id IS NOT NULL
       UNION ALL SELECT l.connection_id, p.use_as, p.methods, p.paths, p.share FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $2) q
     JOIN connections k ON k.id = q.connection_id LEFT JOIN grants g ON g.id = k.current_grant_id JOIN clients c ON c.id = COALESCE(g.client_id, k.client_id) JOIN providers v ON v.id = c.provider_id`,
    [first.id, first.id],
  );
  // One text for all connections of the same scopes: a caller may have a hundred thousand.
  const texts = new Map<string, string>();
  const scopeOf = (stored: string | null): string => {
    const text = texts.get(stored ?? '') ?? (stored ? (JSON.parse(stored) as string[]).join(' ') : '');
    texts.set(stored ?? '', text);
    return text;
  };
  const permissions = new Map<string, Permission>();
  const permissionOf = (row: StoredConnection): Permission => {
    const key = `${row.use_as} ${row.methods} ${row.paths} ${row.share}`;
    const one = permissions.get(key) ?? {
      use: row.use_as as Use,
      methods: JSON.parse(row.methods ?? '[]') as string[],
      paths: JSON.parse(row.paths ?? '[]') as string[],
      share: row.share,
    };
    permissions.set(key, one);
    return one;
  };
  const setUps = await connectionSetUps(rows, definitions);
  const connections = new Map<string, PermittedConnection>();
  for (const row of rows) {
    const permission = permissionOf(row);
    const present = connections.get(row.name);
    if (present) {
      present.permissions = [...present.permissions, permission];
      present.mayFetch = mayFetch(present.permissions);
      continue;
    }
    connections.set(row.name, {
      id: idText(row.id),
      name: row.name,
      intent: row.intent,
      grantId: row.grant_id ? idText(row.grant_id) : null,
      clientRecordId: idText(row.client_record),
      scope: scopeOf(row.scopes),
      setUp: setUps(row),
      permissions: [permission],
      mayFetch: permission.use !== 'relay',
    });
  }
  return {
    id: idText(first.id),
    name: first.name,
    callerId,
    tokenPath: first.token_path,
    redirectUris: JSON.parse(first.redirect_uris ?? '[]') as string[],
    keepsNoSecret: Boolean(first.keeps_no_secret),
    keys: keys.flatMap((row) => (row.key_id && row.hash ? [{ id: idText(row.key_id), hash: row.hash, endsAt: row.ends_at?.getTime() ?? null }] : [])),
    connections,
  };
}
