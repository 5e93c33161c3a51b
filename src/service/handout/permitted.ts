import { mayFetch, type Permission, type Use } from '../../core/callers/permissions.ts';
import type { Definitions } from '../renewal/definitions.ts';
import { type Bind, type Database, idText } from '../store/database.ts';
import { type SetUp, type SetUpRow, setUpReader } from './set-up.ts';

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

interface StoredConnection extends SetUpRow {
  id: Buffer;
  /** Null: what was permitted is not there any more. */
  name: string | null;
  intent: string;
  grant_id: Buffer | null;
  client_record: Buffer;
  scopes: string | null;
  use_as: string;
  methods: string | null;
  paths: string | null;
  share: number | null;
}

/** A caller may have a hundred thousand connections: they are read in pages, so that their rows are never all in memory at once. */
const PAGE = 2_000;
const BEFORE_ALL: Buffer = Buffer.alloc(16);

/** What a caller may use, by name and by label, with everything that a handout or a relayed call needs; by the connection's name. */
export async function readPermitted(database: Database, definitions: Definitions, callerRecordId: Buffer): Promise<Map<string, PermittedConnection>> {
  const connections = new Map<string, PermittedConnection>();
  const put = putter(connections, definitions);
  for (let after = BEFORE_ALL; ; ) {
    const rows = await page(database, callerRecordId, after);
    const isLast = rows.length < PAGE;
    const end = rows.at(-1)?.id ?? after;
    // The last connection of a full page may have further permissions on the next: it is read there, whole.
    const whole = isLast ? rows : rows.filter((row) => !row.id.equals(end));
    for (const row of whole) await put(row);
    if (isLast) return connections;
    after = whole.at(-1)?.id ?? end;
  }
}

/** The same of these connections alone: those that the caller may not use (any more) are missing. */
export async function readPermittedOf(
  database: Database,
  definitions: Definitions,
  callerRecordId: Buffer,
  names: readonly string[],
): Promise<Map<string, PermittedConnection>> {
  const connections = new Map<string, PermittedConnection>();
  const put = putter(connections, definitions);
  const bind: Bind[] = [callerRecordId, callerRecordId];
  const listed = names.map((name) => `$${bind.push(name)}`).join(', ');
  const rows = await database.select<StoredConnection>(
    `${COLUMNS} FROM (SELECT connection_id, use_as, methods, paths, share FROM permissions WHERE caller_id = $1 AND connection_id IS NOT NULL
       UNION ALL SELECT l.connection_id, p.use_as, p.methods, p.paths, p.share FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $2) q
     ${JOINS} WHERE k.name IN (${listed}) ORDER BY q.connection_id`,
    bind,
  );
  for (const row of rows) await put(row);
  return connections;
}

/** Puts one stored row into the map; a further permission for the same connection is added to it. */
function putter(connections: Map<string, PermittedConnection>, definitions: Definitions): (row: StoredConnection) => Promise<void> {
  const take = shared();
  const setUpOf = setUpReader(definitions);
  return async (row) => {
    if (row.name === null) return; // it was removed while we read
    const permission = take.permission(row);
    const present = connections.get(row.name);
    if (present) {
      present.permissions = [...present.permissions, permission];
      present.mayFetch = mayFetch(present.permissions);
      return;
    }
    connections.set(row.name, {
      id: idText(row.id),
      name: row.name,
      intent: take.text(row.intent),
      grantId: row.grant_id ? idText(row.grant_id) : null,
      clientRecordId: take.text(idText(row.client_record)),
      scope: take.scope(row.scopes),
      setUp: await setUpOf(row),
      permissions: take.alone(permission),
      mayFetch: permission.use !== 'relay',
    });
  };
}

const COLUMNS =
  'SELECT q.use_as, q.methods, q.paths, q.share, q.connection_id AS id, k.name, k.intent, COALESCE(g.placeholders, k.placeholders) AS own_placeholders, g.id AS grant_id, g.kind, g.scopes, g.api_base_url, c.id AS client_record, c.environment, c.variant, c.rehearsal_port, c.placeholders, c.trusted_origins, v.version_id';
const JOINS =
  'LEFT JOIN connections k ON k.id = q.connection_id LEFT JOIN grants g ON g.id = k.current_grant_id LEFT JOIN clients c ON c.id = COALESCE(g.client_id, k.client_id) LEFT JOIN providers v ON v.id = c.provider_id';

const page = (database: Database, callerRecordId: Buffer, after: Buffer): Promise<StoredConnection[]> =>
  database.select<StoredConnection>(
    `${COLUMNS} FROM ((SELECT connection_id, use_as, methods, paths, share FROM permissions WHERE caller_id = $1 AND connection_id > $2 ORDER BY connection_id LIMIT ${PAGE})
       UNION ALL (SELECT l.connection_id, p.use_as, p.methods, p.paths, p.share FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $3 AND l.connection_id > $4 ORDER BY l.connection_id LIMIT ${PAGE})
       ORDER BY connection_id LIMIT ${PAGE}) q ${JOINS} ORDER BY q.connection_id`,
    [callerRecordId, after, callerRecordId, after],
  );

/** One value for all that are alike: a hundred thousand connections have few scopes, clients and permissions between them. */
function shared() {
  const texts = new Map<string, string>();
  const scopes = new Map<string, string>();
  const permissions = new Map<string, Permission>();
  const lists = new Map<Permission, Permission[]>();
  const once = <K, V>(known: Map<K, V>, key: K, make: () => V): V => {
    const present = known.get(key) ?? make();
    known.set(key, present);
    return present;
  };
  return {
    text: (text: string): string => once(texts, text, () => text),
    scope: (stored: string | null): string => once(scopes, stored ?? '', () => (stored ? (JSON.parse(stored) as string[]).join(' ') : '')),
    permission: (row: StoredConnection): Permission =>
      once(permissions, `${row.use_as} ${row.methods} ${row.paths} ${row.share}`, () => ({
        use: row.use_as as Use,
        methods: JSON.parse(row.methods ?? '[]') as string[],
        paths: JSON.parse(row.paths ?? '[]') as string[],
        share: row.share,
      })),
    alone: (permission: Permission): Permission[] => once(lists, permission, () => [permission]),
  };
}
