import { bytes, id, instant, number, oneOf, orNull, text } from './column.ts';
import type { StoredOutcome } from './consents.ts';
import { type Bind, type Database, idBytes, idText, instantText, intervalText } from './database.ts';
import { defineTable, type RowOf } from './table.ts';

/** `invitation`: for someone who is asked to connect; `own`: a person's private link to what they connected. */
const INVITATION_KINDS = ['invitation', 'own'] as const;

const COLUMNS = {
  id,
  ticketHash: bytes,
  kind: oneOf(INVITATION_KINDS),
  sharedId: id,
  /** The person's row. */
  connectionId: id,
  /** The application that invites; null: an operator does. */
  callerId: orNull(id),
  purpose: text,
  returnTo: orNull(text),
  callerState: orNull(text),
  /** Null: any number. */
  usesMost: orNull(number),
  /** Consents that came of it, and those that were begun. */
  uses: number,
  starts: number,
  expiresAt: instant,
  revokedAt: orNull(instant),
  /** First looked at. */
  openedAt: orNull(instant),
  createdBy: text,
  createdAt: instant,
  /** The last one begun here. */
  consentId: orNull(id),
  /** The one-time code for the application, and until when it is good. */
  codeHash: orNull(bytes),
  codeExpiresAt: orNull(instant),
};
export type InvitationRow = RowOf<typeof COLUMNS>;
/** An invitation with the person whom it means. */
export type ListedInvitation = InvitationRow & { handle: string; personKey: string; personName: string | null; caller: string | null };

/** Invitations and private links of people. Tickets and codes are kept as hashes. Instants are epoch ms. */
export interface InvitationStore {
  byTicket(hash: Buffer): Promise<InvitationRow | null>;
  byId(invitationId: string): Promise<InvitationRow | null>;
  /** The one whose consent this is. */
  byConsent(consentId: string): Promise<InvitationRow | null>;
  /** Newest first, made before `before`. */
  list(sharedId: string, most: number, before?: number): Promise<ListedInvitation[]>;
  add(row: InvitationRow): Promise<void>;
  change(invitationId: string, set: Partial<InvitationRow>): Promise<void>;
  /** Begins a consent: false where it expired, was revoked, or too many were begun. */
  begin(invitationId: string, consentId: string, startsMost: number): Promise<boolean>;
  /**
   * Takes one use of an invitation for a consent, before anything comes of it; again for the same consent it is the same use. What a consent took
   * that was never finished is free again. False: it is used up or revoked.
   */
  take(invitationId: string, consentId: string): Promise<boolean>;
  /** Gives a use back, because nothing came of the consent. */
  giveBack(invitationId: string, consentId: string): Promise<void>;
  /** Ends the other consents that were begun with an invitation, where it is used up. How many. */
  endOthers(invitationId: string, consentId: string, outcome: StoredOutcome): Promise<number>;
  /** False: it was revoked before. */
  revoke(invitationId: string): Promise<boolean>;
  /** Ends all links to a person's row. */
  revokeAll(connectionId: string): Promise<void>;
  /** Takes a code once. Null: unknown, expired, used, or another caller's. */
  redeem(hash: Buffer, callerId: string): Promise<InvitationRow | null>;
  /** Deletes those that expired so long ago. */
  deleteOld(olderThanMs: number): Promise<void>;
}

export function invitationStore(database: Database): InvitationStore {
  const table = defineTable(database, 'invitations', COLUMNS, { primaryKey: ['id'] });
  return {
    byTicket: (hash) => table.find({ ticketHash: hash }),
    byId: (invitationId) => table.find({ id: invitationId }),
    byConsent: (consentId) => table.find({ consentId }),
    async list(sharedId, most, before) {
      const bind: Bind[] = [idBytes(sharedId)];
      const until = before === undefined ? '' : `AND created_at < $${bind.push(instantText(before))}`;
      const ids = await database.select<{ id: Buffer }>(
        `SELECT id FROM invitations WHERE shared_id = $1 AND kind = 'invitation' ${until} ORDER BY created_at DESC LIMIT ${Math.floor(most)}`,
        bind,
      );
      if (ids.length === 0) return [];
      const rows = (await table.list({ id: ids.map((row) => idText(row.id)) })).sort((one, other) => other.createdAt - one.createdAt);
      const marks = rows.map((_row, at) => `$${at + 1}`).join(', ');
      const people = await database.select<{ id: Buffer; name: string; person_key: string; person_name: string | null }>(
        `SELECT id, name, person_key, person_name FROM connections WHERE id IN (${marks})`,
        rows.map((row) => idBytes(row.connectionId)),
      );
      const callers = new Map((await database.select<{ id: Buffer; name: string }>('SELECT id, name FROM callers')).map((row) => [idText(row.id), row.name]));
      const byId = new Map(people.map((row) => [idText(row.id), row]));
      return rows.flatMap((row) => {
        const person = byId.get(row.connectionId);
        if (!person) return [];
        return [
          {
            ...row,
            handle: person.name,
            personKey: person.person_key,
            personName: person.person_name,
            caller: row.callerId === null ? null : (callers.get(row.callerId) ?? null),
          },
        ];
      });
    },
    add: (row) => table.insert(row),
    change: async (invitationId, set) => void (await table.change({ id: invitationId }, set)),
    begin: async (invitationId, consentId, startsMost) =>
      (await database.write(
        `UPDATE invitations SET starts = starts + 1, consent_id = $1, code_hash = NULL WHERE id = $2 AND revoked_at IS NULL AND expires_at > UTC_TIMESTAMP(3)
           AND starts < ${Math.floor(startsMost)} AND (uses_most IS NULL OR uses < uses_most)`,
        [idBytes(consentId), idBytes(invitationId)],
      )) > 0,
    take: (invitationId, consentId) =>
      database.attempt(async (transaction) => {
        const [invitation, consent] = [idBytes(invitationId), idBytes(consentId)];
        const known = await database.select(
          'SELECT 1 AS found FROM invitation_uses WHERE invitation_id = $1 AND consent_id = $2',
          [invitation, consent],
          transaction,
        );
        if (known.length > 0) return true;
        const stale = await database.write(
          `DELETE u FROM invitation_uses u JOIN consents c ON c.id = u.consent_id
           WHERE u.invitation_id = $1 AND c.finished_at IS NULL AND c.expires_at < UTC_TIMESTAMP(3)`,
          [invitation],
          transaction,
        );
        // The condition decides between consents that end in the same moment: on every replica one of them is first.
        const taken = await database.write(
          `UPDATE invitations SET uses = uses - $1 + 1, consent_id = $2 WHERE id = $3 AND revoked_at IS NULL AND (uses_most IS NULL OR uses - $4 < uses_most)`,
          [stale, consent, invitation, stale],
          transaction,
        );
        if (taken === 0) return false;
        await database.write(
          'INSERT INTO invitation_uses (invitation_id, consent_id, taken_at) VALUES ($1, $2, UTC_TIMESTAMP(3))',
          [invitation, consent],
          transaction,
        );
        return true;
      }),
    giveBack: async (invitationId, consentId) =>
      database.transaction(async (transaction) => {
        const bind = [idBytes(invitationId), idBytes(consentId)];
        const removed = await database.write('DELETE FROM invitation_uses WHERE invitation_id = $1 AND consent_id = $2', bind, transaction);
        if (removed > 0) await database.write('UPDATE invitations SET uses = uses - 1 WHERE id = $1 AND uses > 0', [idBytes(invitationId)], transaction);
      }),
    endOthers: (invitationId, consentId, outcome) =>
      database.write(
        `UPDATE consents c JOIN invitations i ON i.id = $1 AND i.uses_most IS NOT NULL AND i.uses >= i.uses_most
         SET c.phase = 'failed', c.finished_at = UTC_TIMESTAMP(3), c.poll_at = NULL, c.verifier_sealed = NULL, c.device_sealed = NULL, c.outcome = $4
         WHERE c.connection_id = i.connection_id AND c.id <> $2 AND c.finished_at IS NULL AND c.phase IN ('offered', 'started', 'polling')
           AND JSON_VALUE(c.facts, '$.invitation') = $3`,
        [idBytes(invitationId), idBytes(consentId), invitationId, JSON.stringify(outcome)],
      ),
    revoke: async (invitationId) =>
      (await database.write('UPDATE invitations SET revoked_at = UTC_TIMESTAMP(3), code_hash = NULL WHERE id = $1 AND revoked_at IS NULL', [
        idBytes(invitationId),
      ])) > 0,
    revokeAll: async (connectionId) =>
      void (await database.write('UPDATE invitations SET revoked_at = UTC_TIMESTAMP(3), code_hash = NULL WHERE connection_id = $1 AND revoked_at IS NULL', [
        idBytes(connectionId),
      ])),
    async redeem(hash, callerId) {
      const row = await table.find({ codeHash: hash });
      if (!row) return null;
      const isFirst =
        (await database.write(
          'UPDATE invitations SET code_hash = NULL WHERE id = $1 AND code_hash = $2 AND caller_id = $3 AND code_expires_at > UTC_TIMESTAMP(3)',
          [idBytes(row.id), hash, idBytes(callerId)],
        )) > 0;
      return isFirst ? row : null;
    },
    async deleteOld(olderThanMs) {
      await database.write(`DELETE FROM invitations WHERE expires_at < UTC_TIMESTAMP(3) - ${intervalText(olderThanMs)} LIMIT 1000`);
    },
  };
}
