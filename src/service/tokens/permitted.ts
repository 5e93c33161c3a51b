import { mayFetch, type Permission } from '../../core/callers/permissions.ts';
import type { Definitions } from '../renewal/index.ts';
import { type DefinitionUses, type PermittedRow, readScopes } from '../store/definition-uses.ts';
import { idText } from '../store/ids.ts';
import { ruleOf } from '../store/permissions.ts';
import { type SetUp, setUpReader } from './set-up.ts';

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
  /** Holds a grant for each person: it is named with the person. */
  shared: boolean;
}

/** A caller may have a hundred thousand connections: they are read in pages, so that their rows are never all in memory at once. */
const PAGE = 2_000;
const BEFORE_ALL: Buffer = Buffer.alloc(16);

/** What a caller may use, by name and by label, with everything that a token issuance or a relayed call needs; by the connection's name. */
export async function readPermitted(uses: DefinitionUses, definitions: Definitions, callerRecordId: string): Promise<Map<string, PermittedConnection>> {
  const connections = new Map<string, PermittedConnection>();
  const put = putter(connections, definitions);
  for (let after = BEFORE_ALL; ; ) {
    const rows = await uses.permitted(callerRecordId, after, PAGE);
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
  uses: DefinitionUses,
  definitions: Definitions,
  callerRecordId: string,
  names: readonly string[],
): Promise<Map<string, PermittedConnection>> {
  const connections = new Map<string, PermittedConnection>();
  const put = putter(connections, definitions);
  for (const row of await uses.permittedOf(callerRecordId, names)) await put(row);
  return connections;
}

/** A person's row of a shared connection that the caller may use; null: there is none, or it may not. Paused with the shared one. */
export async function readPermittedPerson(
  uses: DefinitionUses,
  definitions: Definitions,
  callerRecordId: string,
  { connection, hash }: { connection: string; hash: Buffer },
): Promise<PermittedConnection | null> {
  const found = new Map<string, PermittedConnection>();
  const put = putter(found, definitions);
  const rows = await uses.permittedPerson(callerRecordId, connection, hash);
  for (const row of rows) await put(row.shared_intent === 'active' ? row : { ...row, intent: row.shared_intent });
  const [one] = found.values();
  return one ?? null;
}

/** Puts one stored row into the map; a further permission for the same connection is added to it. */
function putter(connections: Map<string, PermittedConnection>, definitions: Definitions): (row: PermittedRow) => Promise<void> {
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
      scope: take.scope(row),
      setUp: await setUpOf(row),
      permissions: take.alone(permission),
      mayFetch: permission.use !== 'relay',
      shared: row.shared === 1,
    });
  };
}

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
    scope: (row: PermittedRow): string => once(scopes, row.scopes ?? '', () => readScopes(row).join(' ')),
    permission: (row: PermittedRow): Permission =>
      once(permissions, `${row.use_as} ${row.methods} ${row.paths} ${row.share} ${row.people}`, () => ruleOf(row, String(row.name))),
    alone: (permission: Permission): Permission[] => once(lists, permission, () => [permission]),
  };
}
