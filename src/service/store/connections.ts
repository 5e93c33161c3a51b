import type { Transaction } from 'sequelize';
import { CONNECTION_INTENTS } from '../../core/health.ts';
import { GRANT_TYPES } from '../../core/oauth/grant-kinds.ts';
import { POLICIES } from '../../core/renewal/plan.ts';
import { bytes, flag, id, instant, number, oneOf, orElse, orNull, text, textList, textMap } from './column.ts';
import { MARK_DUE, MARKED_DUE } from './connection-states.ts';
import { type Bind, type Database, idBytes, idText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';
import { deleteTokens } from './tokens.ts';

/** Why a grant is on standby: prepared for a switch, kept after one, or not used before someone decides. */
export const STANDBY_REASONS = ['prepared', 'former', 'other_account', 'not_verified'] as const;
export type StandbyWhy = (typeof STANDBY_REASONS)[number];

const COLUMNS = {
  id,
  name: text,
  clientId: id,
  intent: oneOf(CONNECTION_INTENTS),
  currentGrantId: orNull(id),
  standbyGrantId: orNull(id),
  standbyWhy: orNull(oneOf(STANDBY_REASONS)),
  scopes: textList,
  expectedAccount: orNull(text),
  /** Of versions before labels had a table of their own; always empty. */
  labels: textMap,
  policy: oneOf(POLICIES),
  lastUsedAt: orNull(instant),
  grantType: oneOf(GRANT_TYPES),
  placeholders: orElse(textMap, {}),
  operations: orElse(textList, []),
  revision: number,
  createdAt: instant,
  /** Holds one grant for each person, each in a row of its own. */
  shared: flag,
  /** The shared connection to which a person's row belongs; the application's own key for the person, and its hash. */
  personOf: orNull(id),
  personHash: orNull(bytes),
  personKey: orNull(text),
  personName: orNull(text),
  personMail: orNull(text),
  /** The application that invited the person: it gets the events. Null: an operator did, for none. */
  invitingCallerId: orNull(id),
};
export type ConnectionRow = RowOf<typeof COLUMNS>;
/** A connection that belongs to nobody but itself. */
export const NO_PERSON = {
  shared: false,
  personOf: null,
  personHash: null,
  personKey: null,
  personName: null,
  personMail: null,
  invitingCallerId: null,
} as const;
type Changeable = Partial<Omit<ConnectionRow, 'id' | 'name'>>;

/** Connections: one authorization through one client, under a name that people use. Lists are in `connection-list.ts`. */
export interface ConnectionStore {
  byName(name: string): Promise<ConnectionRow | null>;
  byId(connectionId: string): Promise<ConnectionRow | null>;
  /** The connection that uses this grant. */
  byCurrentGrant(grantId: string): Promise<ConnectionRow | null>;
  /** The row of a person in a shared connection. */
  ofPerson(sharedId: string, hash: Buffer): Promise<ConnectionRow | null>;
  /** Names of people's rows of a shared connection, after one, at most so many. */
  peopleOf(sharedId: string, after: string, most: number): Promise<string[]>;
  ofClient(clientId: string): Promise<ConnectionRow[]>;
  /** The name of a connection of this client, or of one with tokens on standby that came through it; null: there is none. */
  dependsOnClient(clientId: string): Promise<{ name: string; waits: boolean } | null>;
  hasAny(clientId: string): Promise<boolean>;
  /** Whether any connection of a client holds tokens. */
  hasTokens(clientId: string): Promise<boolean>;
  /** Grants in use by active connections of a client, at most so many. */
  activeGrantsOf(clientId: string, most: number): Promise<string[]>;
  add(row: Omit<ConnectionRow, 'labels'>, labels: readonly string[]): Promise<void>;
  change(connectionId: string, set: Changeable): Promise<void>;
  /** Changes the connection of this revision, and counts the revision on. False: it has another by now. */
  revise(connectionId: string, revision: number, set: Changeable): Promise<boolean>;
  /** From one intent to another; false: it has another one by now. */
  turn(connectionId: string, from: ConnectionRow['intent'], to: ConnectionRow['intent']): Promise<boolean>;
  /** Takes a grant into use in place of the one that was seen; false: another one is in use by now. */
  useGrant(connection: Pick<ConnectionRow, 'id' | 'currentGrantId'>, grantId: string, set: Changeable): Promise<boolean>;
  /** Uses the grant on standby, with its client and values, and puts another one, or none, in its place. False: someone was faster. */
  switchGrants(
    was: Pick<ConnectionRow, 'id' | 'currentGrantId'>,
    now: { id: string; clientId: string | null; placeholders: Record<string, string> | null },
    standby: { id: string; why: StandbyWhy } | null,
  ): Promise<boolean>;
  /** Nothing is on standby anymore, where this grant was. */
  clearStandby(connectionId: string, grantId: string): Promise<void>;
  /** Makes these its labels: others are removed. */
  setLabels(connectionId: string, labels: readonly string[]): Promise<void>;
  /** Deletes the connection with its grants and tokens; what else refers to it goes with it (migrations/foreign-keys.ts). */
  remove(connectionId: string, grantIds: readonly string[]): Promise<void>;
  /** Notes that connections were used, at most once in `everyMs` each. */
  used(connectionIds: readonly string[], everyMs: number): Promise<void>;
}

export function connectionStore(database: Database): ConnectionStore {
  const table = defineTable(database, 'connections', COLUMNS, { primaryKey: ['id'], withEachChange: MARK_DUE });
  const labels = defineTable(database, 'connection_labels', { connectionId: id, label: text }, { primaryKey: ['connectionId', 'label'] });
  const putLabels = async (connectionId: string, wanted: readonly string[], transaction: Transaction): Promise<void> => {
    const rows = await database.select<{ label: string }>('SELECT label FROM connection_labels WHERE connection_id = $1', [idBytes(connectionId)], transaction);
    const present = rows.map((row) => row.label);
    for (const label of present) if (!wanted.includes(label)) await labels.remove({ connectionId, label }, transaction);
    for (const label of new Set(wanted)) if (!present.includes(label)) await labels.insert({ connectionId, label }, transaction);
  };
  return {
    byName: (name) => table.find({ name }),
    byId: (connectionId) => table.find({ id: connectionId }),
    byCurrentGrant: (grantId) => table.find({ currentGrantId: grantId }),
    ofPerson: (sharedId, hash) => table.find({ personOf: sharedId, personHash: hash }),
    async peopleOf(sharedId, after, most) {
      const rows = await database.select<{ name: string }>(
        `SELECT name FROM connections WHERE person_of = $1 AND name > $2 ORDER BY name LIMIT ${Math.floor(most)}`,
        [idBytes(sharedId), after],
      );
      return rows.map((row) => row.name);
    },
    ofClient: (clientId) => table.list({ clientId }),
    async dependsOnClient(clientId) {
      const [own] = await database.select<{ name: string }>('SELECT name FROM connections WHERE client_id = $1 LIMIT 1', [idBytes(clientId)]);
      if (own) return { name: own.name, waits: false };
      const [waiting] = await database.select<{ name: string }>(
        'SELECT k.name FROM connections k JOIN grants g ON g.id = k.standby_grant_id WHERE g.client_id = $1 LIMIT 1',
        [idBytes(clientId)],
      );
      return waiting ? { name: waiting.name, waits: true } : null;
    },
    hasAny: async (clientId) => (await table.find({ clientId })) !== null,
    hasTokens: async (clientId) =>
      (await database.select('SELECT 1 AS found FROM connections WHERE client_id = $1 AND current_grant_id IS NOT NULL LIMIT 1', [idBytes(clientId)])).length >
      0,
    async activeGrantsOf(clientId, most) {
      const rows = await database.select<{ id: Buffer }>(
        `SELECT current_grant_id AS id FROM connections
         WHERE client_id = $1 AND intent = 'active' AND current_grant_id IS NOT NULL LIMIT ${Math.floor(most)}`,
        [idBytes(clientId)],
      );
      return rows.map((row) => idText(row.id));
    },
    add: (row, wanted) =>
      database.transaction(async (transaction) => {
        await table.insert({ ...row, labels: {} }, transaction);
        await putLabels(row.id, wanted, transaction);
      }),
    change: async (connectionId, set) => void (await table.change({ id: connectionId }, set)),
    revise: async (connectionId, revision, set) => (await table.change({ id: connectionId, revision }, { ...set, revision: revision + 1 })) > 0,
    turn: async (connectionId, from, to) => (await table.change({ id: connectionId, intent: from }, { intent: to })) > 0,
    useGrant: async ({ id: connectionId, currentGrantId }, grantId, set) =>
      (await table.change({ id: connectionId, currentGrantId }, { ...set, currentGrantId: grantId })) > 0,
    switchGrants: async (was, now, standby) =>
      (await database.write(
        `UPDATE connections
         SET current_grant_id = $1, standby_grant_id = $2, standby_why = $3, client_id = COALESCE($4, client_id),
           placeholders = COALESCE($5, placeholders), intent = CASE WHEN intent = 'paused' THEN intent ELSE 'active' END, ${MARKED_DUE}
         WHERE id = $6 AND standby_grant_id = $7 AND current_grant_id <=> $8`,
        [
          idBytes(now.id),
          standby ? idBytes(standby.id) : null,
          standby?.why ?? null,
          now.clientId ? idBytes(now.clientId) : null,
          now.placeholders === null ? null : JSON.stringify(now.placeholders),
          idBytes(was.id),
          idBytes(now.id),
          was.currentGrantId ? idBytes(was.currentGrantId) : null,
        ],
      )) > 0,
    clearStandby: async (connectionId, grantId) =>
      void (await table.change({ id: connectionId, standbyGrantId: grantId }, { standbyGrantId: null, standbyWhy: null })),
    setLabels: (connectionId, wanted) =>
      database.transaction(async (transaction) => {
        await putLabels(connectionId, wanted, transaction);
        await database.write(`UPDATE connections SET ${MARKED_DUE} WHERE id = $1`, [idBytes(connectionId)], transaction);
      }),
    remove: (connectionId, grantIds) =>
      database.transaction(async (transaction) => {
        for (const grantId of grantIds) {
          await deleteTokens(database, grantId, transaction);
          await database.write('DELETE FROM renewals WHERE grant_id = $1', [idBytes(grantId)], transaction);
          await database.write('DELETE FROM wire_log WHERE grant_id = $1', [idBytes(grantId)], transaction);
          await database.write('DELETE FROM spare_tokens WHERE grant_id = $1', [idBytes(grantId)], transaction);
        }
        await database.write('DELETE FROM grants WHERE connection_id = $1', [idBytes(connectionId)], transaction);
        await table.remove({ id: connectionId }, transaction);
      }),
    async used(connectionIds, everyMs) {
      const bind: Bind[] = [];
      const list = connectionIds.map((connectionId) => `$${bind.push(idBytes(connectionId))}`).join(', ');
      await database.write(
        `UPDATE connections SET last_used_at = UTC_TIMESTAMP(3)
         WHERE id IN (${list})
           AND (last_used_at IS NULL OR last_used_at < UTC_TIMESTAMP(3) - ${intervalText(everyMs)})`,
        bind,
      );
    },
  };
}
