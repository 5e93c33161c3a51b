import { CONNECTION_INTENTS } from '../../core/health.ts';
import { GRANT_KINDS } from '../../core/oauth/grant-kinds.ts';
import { CLIENT_AUTHENTICATION_METHODS } from '../../core/oauth/methods.ts';
import { ENVIRONMENTS } from '../../core/provider/kinds.ts';
import { POLICIES } from '../../core/renewal/plan.ts';
import { CLIENT_HEALTH } from './clients.ts';
import { type Column, oneOf, orElse, orNull, type RowOf, readColumn, textList, textMap } from './column.ts';
import { type Bind, type Database, idBytes, idText } from './database.ts';
import { ruleColumns } from './permissions.ts';

/**
 * Which version of a definition, and as whom: a client's environment, variant and values, and a connection's, as a row of the database
 * has them. JSON stays text, so that a row of a batch is looked up without reading it.
 */
export interface DefinitionUse {
  client_record: Buffer;
  version_id: Buffer;
  environment: string;
  variant: string | null;
  /** Where a simulated provider stands in for the real one, on loopback. */
  rehearsal_port: number | null;
  placeholders: string;
  /** Of the connection. */
  own_placeholders: string | null;
  /** The origins that an operator has seen and confirmed for the client; null: none were kept, and all are trusted. */
  trusted_origins: string | null;
}

/** A permitted connection with everything that a token or a relayed call needs; hot, so it stays as the database has it. */
export interface PermittedRow extends DefinitionUse {
  id: Buffer;
  /** Null: what was permitted is not there anymore. */
  name: string | null;
  intent: string;
  grant_id: Buffer | null;
  scopes: string | null;
  /** What the grant came from; a static key has a header of its own. */
  kind: string | null;
  api_base_url: string | null;
  use_as: string;
  methods: string | null;
  paths: string | null;
  share: number | null;
  people: string;
  shared: number;
}

/** What a renewal needs to know of a grant besides its tokens. */
export interface GrantUseRow extends DefinitionUse {
  grant_id: Buffer;
  kind: string;
  connection_id: Buffer;
  name: string;
  intent: string;
  client_name: string;
  client_id: string | null;
  health: string;
  held_until: Date | null;
  policy: string;
  last_used_at: Date | null;
  auth_method: string | null;
  api_base_url: string | null;
  scopes: string;
  subject: string | null;
}

/** The wide rows of the hot paths: callers' connections, and grants to be renewed. */
export interface DefinitionUses {
  /** A caller's connections after the one with this ID (all zero: from the start), in order of their IDs, at most so many rows. */
  permitted(callerRecordId: string, after: Buffer, most: number): Promise<PermittedRow[]>;
  /** Those of these names. */
  permittedOf(callerRecordId: string, names: readonly string[]): Promise<PermittedRow[]>;
  /** A person's row in a shared connection, by the hash of the key: permitted with the shared connection, or by a label of either. */
  permittedPerson(callerRecordId: string, shared: string, personHash: Buffer): Promise<(PermittedRow & { shared_intent: string })[]>;
  ofGrants(grantIds: readonly string[]): Promise<GrantUseRow[]>;
}

const PERMITTED = `SELECT ${ruleColumns('q')}, q.connection_id AS id, k.name, k.intent, k.shared,
  COALESCE(g.placeholders, k.placeholders) AS own_placeholders, g.id AS grant_id, g.kind, g.scopes, g.api_base_url,
  c.id AS client_record, c.environment, c.variant, c.rehearsal_port, c.placeholders, c.trusted_origins, v.version_id`;
const JOINS = `LEFT JOIN connections k ON k.id = q.connection_id
  LEFT JOIN grants g ON g.id = k.current_grant_id
  LEFT JOIN clients c ON c.id = COALESCE(g.client_id, k.client_id)
  LEFT JOIN providers v ON v.id = c.provider_id`;

export function definitionUses(database: Database): DefinitionUses {
  return {
    permitted(callerRecordId, after, most) {
      const [caller, limit] = [idBytes(callerRecordId), Math.floor(most)];
      return database.select<PermittedRow>(
        `${PERMITTED} FROM (
           (SELECT connection_id, ${ruleColumns('permissions')} FROM permissions
            WHERE caller_id = $1 AND connection_id > $2 ORDER BY connection_id LIMIT ${limit})
           UNION ALL
           (SELECT l.connection_id, ${ruleColumns('p')}
            FROM permissions p JOIN connection_labels l ON l.label = p.label JOIN connections o ON o.id = l.connection_id AND o.person_of IS NULL
            WHERE p.caller_id = $3 AND l.connection_id > $4 ORDER BY l.connection_id LIMIT ${limit})
           ORDER BY connection_id LIMIT ${limit}
         ) q ${JOINS} ORDER BY q.connection_id`,
        [caller, after, caller, after],
      );
    },
    permittedOf(callerRecordId, names) {
      const caller = idBytes(callerRecordId);
      const bind: Bind[] = [caller, caller];
      const listed = names.map((name) => `$${bind.push(name)}`).join(', ');
      return database.select<PermittedRow>(
        `${PERMITTED} FROM (
           SELECT connection_id, ${ruleColumns('permissions')} FROM permissions WHERE caller_id = $1 AND connection_id IS NOT NULL
           UNION ALL
           SELECT l.connection_id, ${ruleColumns('p')}
           FROM permissions p JOIN connection_labels l ON l.label = p.label WHERE p.caller_id = $2
         ) q ${JOINS} WHERE k.person_of IS NULL AND k.name IN (${listed}) ORDER BY q.connection_id`,
        bind,
      );
    },
    permittedPerson(callerRecordId, shared, personHash) {
      return database.select<PermittedRow & { shared_intent: string }>(
        `${PERMITTED}, q.shared_intent FROM (
           SELECT o.id AS connection_id, s.intent AS shared_intent, ${ruleColumns('p')}
           FROM connections s
           STRAIGHT_JOIN connections o ON o.person_of = s.id AND o.person_hash = $1
           JOIN permissions p ON p.caller_id = $2 AND (p.connection_id = s.id
             OR p.label IN (SELECT l.label FROM connection_labels l WHERE l.connection_id IN (s.id, o.id)))
           WHERE s.name = $3 AND s.shared = 1
         ) q ${JOINS}`,
        [personHash, idBytes(callerRecordId), shared],
      );
    },
    ofGrants(grantIds) {
      const bind: Bind[] = [];
      const list = grantIds.map((id) => `$${bind.push(idBytes(id))}`).join(', ');
      // From the grants inwards: left to itself, the optimizer starts at the few clients and reads all their connections.
      return database.select<GrantUseRow>(
        `SELECT g.id AS grant_id, g.kind, g.subject, g.scopes, g.api_base_url,
           k.id AS connection_id, k.name, k.intent, k.policy, k.last_used_at,
           COALESCE(g.placeholders, k.placeholders) AS own_placeholders, c.placeholders, c.id AS client_record, c.name AS client_name,
           c.client_id, c.health, c.held_until, c.environment, c.variant, c.rehearsal_port, c.auth_method, c.trusted_origins, p.version_id
         FROM grants g
         STRAIGHT_JOIN connections k ON k.id = g.connection_id
         STRAIGHT_JOIN clients c ON c.id = COALESCE(g.client_id, k.client_id)
         STRAIGHT_JOIN providers p ON p.id = c.provider_id
         WHERE g.id IN (${list})`,
        bind,
      );
    },
  };
}

const COLUMNS = {
  kind: oneOf(GRANT_KINDS),
  intent: oneOf(CONNECTION_INTENTS),
  policy: oneOf(POLICIES),
  authMethod: orNull(oneOf(CLIENT_AUTHENTICATION_METHODS)),
  health: oneOf(CLIENT_HEALTH),
};

const USE = {
  environment: oneOf(ENVIRONMENTS),
  placeholders: textMap,
  ownPlaceholders: orElse(textMap, {}),
  trustedOrigins: orNull(textList),
};

/** How a definition is used, checked. @throws {Fault} RECORD_INVALID */
export function readUse(use: DefinitionUse): RowOf<typeof USE> {
  const client = idText(use.client_record);
  const at = (column: string) => ({ table: 'clients', column, row: client });
  const ofConnection = { table: 'connections', column: 'placeholders', row: `a connection of client ${client}` };
  return {
    environment: readColumn(USE.environment, use.environment, at('environment')),
    placeholders: readColumn(USE.placeholders, use.placeholders, at('placeholders')),
    ownPlaceholders: readColumn(USE.ownPlaceholders, use.own_placeholders, ofConnection),
    trustedOrigins: readColumn(USE.trustedOrigins, use.trusted_origins, at('trusted_origins')),
  };
}

/** The scopes of a permitted connection, checked. @throws {Fault} RECORD_INVALID */
export const readScopes = ({ name, scopes }: Pick<PermittedRow, 'name' | 'scopes'>): string[] =>
  readColumn(orElse(textList, []), scopes, { table: 'grants', column: 'scopes', row: String(name) });

/** The values of a grant's row, checked. @throws {Fault} RECORD_INVALID */
export function readGrantUse(row: GrantUseRow) {
  const grantId = idText(row.grant_id);
  const read = <T>(one: Column<T>, stored: unknown, table: string, column: string): T => readColumn(one, stored, { table, column, row: row.name });
  return {
    grantId,
    connectionId: idText(row.connection_id),
    connectionName: row.name,
    intent: read(COLUMNS.intent, row.intent, 'connections', 'intent'),
    clientHealth: read(COLUMNS.health, row.health, 'clients', 'health'),
    /** The provider asked to wait until then, epoch ms; 0: it did not. */
    clientHeldUntil: row.held_until?.getTime() ?? 0,
    policy: read(COLUMNS.policy, row.policy, 'connections', 'policy'),
    lastUsedAt: row.last_used_at?.getTime() ?? null,
    authMethod: read(COLUMNS.authMethod, row.auth_method, 'clients', 'auth_method'),
    kind: read(COLUMNS.kind, row.kind, 'grants', 'kind'),
    subject: row.subject,
    scopes: read(textList, row.scopes, 'grants', 'scopes'),
    apiBaseUrl: row.api_base_url,
  };
}
