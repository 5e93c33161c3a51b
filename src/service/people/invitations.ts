import type { z } from 'zod';
import type { Invitation, Invite, Invited } from '../../api/people.ts';
import { mayWithPeople } from '../../core/callers/permissions.ts';
import { Fault } from '../../core/fault.ts';
import { invitationLetter } from '../../core/people/letters.ts';
import { shortKey } from '../../core/people/person-key.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Asked, Command } from '../operation-call.ts';
import type { ListedInvitation } from '../store/invitations.ts';
import type { KnownCaller } from '../tokens/index.ts';
import { ensurePerson, findShared, withoutOthersCallers } from './find.ts';
import { makeLink, urlOf } from './links.ts';
import type { PeopleParts } from './parts.ts';

const HOUR_MS = 3_600_000;

/** Who invites: an operator, perhaps for an application, or an application for itself. */
interface By {
  name: string;
  caller: { id: string; name: string; title: string; redirectUris: readonly string[] } | null;
}

async function invite(s: PeopleParts, sharedName: string, input: z.output<typeof Invite>, by: By): Promise<Invited> {
  const shared = await findShared(s, sharedName);
  if (input.mail_to !== undefined && !s.mail.isOn)
    throw new Fault('INPUT_INVALID', {
      places: [{ path: 'mail_to', why: 'No mail server is set.' }],
      remedy: 'Set RUSTY_KETTLE_SMTP_URL, or send the link yourself.',
    });
  if (input.return_to !== undefined && (by.caller === null || !by.caller.redirectUris.includes(input.return_to)))
    throw new Fault('INPUT_INVALID', {
      places: [
        { path: 'return_to', why: by.caller === null ? 'Name the caller to whose address people return.' : 'It is not among the redirect URIs of the caller.' },
      ],
      remedy: 'Register the address first: Callers > Tool settings, or `rk caller change NAME --redirect-uri URL`.',
    });
  const person = await ensurePerson(s, shared, {
    key: input.person,
    name: input.name ?? null,
    expectedAccount: input.expected_account ?? null,
    mail: input.mail_to ?? null,
    labels: input.labels,
    invitedBy: by.caller?.id ?? null,
  });
  const { row, ticket } = await makeLink(s, {
    kind: 'invitation',
    sharedId: shared.id,
    connectionId: person.id,
    callerId: by.caller?.id ?? null,
    purpose: input.purpose,
    returnTo: input.return_to ?? null,
    callerState: input.state ?? null,
    usesMost: input.uses,
    expiresAt: s.ports.clock.now() + input.expires_in_hours * HOUR_MS,
    createdBy: by.name,
  });
  if (input.mail_to !== undefined)
    await s.mail.queue({
      connectionId: person.id,
      to: input.mail_to,
      letter: invitationLetter({
        application: by.caller?.title || by.caller?.name || 'The operator of this service',
        name: input.name ?? null,
        purpose: input.purpose,
        url: urlOf(s, ticket),
        expiresAt: row.expiresAt,
      }),
    });
  s.history.add({
    actor: by.name,
    kind: 'invited',
    subject: `connection:${sharedName}`,
    says: `Invited ${input.name ?? `the person ${shortKey(input.person)}`} to connect.`,
    data: { invitation: row.id, person: person.name },
  });
  return { id: row.id, person: input.person, handle: person.name, url: urlOf(s, ticket), expires_at: iso(row.expiresAt), mailed: input.mail_to !== undefined };
}

export async function inviteByOperator(s: PeopleParts, { params, body, actor }: Command<'invitePerson'>): Promise<Invited> {
  const { caller: named, ...input } = body;
  const caller = named === undefined ? null : await s.store.callers.byName(named);
  if (named !== undefined && !caller) throw new Fault('NOT_FOUND', { detail: `Caller "${named}" not found.` });
  return invite(s, params.connection, input, { name: actor.operator.name, caller });
}

export async function inviteByCaller(s: PeopleParts, { params, body, actor }: Command<'inviteOwnPerson'>): Promise<Invited> {
  const { caller } = actor;
  needPeople(caller, params.connection, 'manage');
  const known = await s.store.callers.byId(caller.id);
  if (!known) throw new Fault('NOT_PERMITTED', { detail: 'The caller was removed.' });
  return invite(s, params.connection, body, { name: `caller:${caller.name}`, caller: known });
}

/** @throws {Fault} NOT_PERMITTED, for a connection of others and an unknown one alike; and where the permission does not cover people */
export function needPeople(caller: KnownCaller, connection: string, right: 'read' | 'manage'): void {
  const own = caller.connections.get(connection);
  if (!own?.shared) throw new Fault('NOT_PERMITTED', { detail: `${caller.name} has no shared connection called ${connection.slice(0, 63)}.` });
  if (!mayWithPeople(own.permissions, right))
    throw new Fault('NOT_PERMITTED', {
      detail: `${caller.name} may not ${right === 'read' ? 'see' : 'manage'} the people of ${connection}.`,
      remedy: `Let an operator permit it: \`rk caller permit ${caller.name} ${connection} --people ${right}\`.`,
    });
}

export async function listInvitations(s: PeopleParts, { params, query, actor }: Asked<'listInvitations'>): Promise<{ items: Invitation[] }> {
  const shared = await findShared(s, params.connection);
  const rows = await s.store.invitations.list(shared.id, query.limit, query.before === undefined ? undefined : Date.parse(query.before));
  const items = rows.map((row) => view(row, s.ports.clock.now()));
  return { items: await withoutOthersCallers(s, items, actor.operator) };
}

const view = (row: ListedInvitation, now: number): Invitation => ({
  id: row.id,
  person: row.personKey,
  handle: row.handle,
  name: row.personName,
  caller: row.caller,
  purpose: row.purpose,
  state:
    row.revokedAt !== null
      ? 'revoked'
      : row.usesMost !== null && row.uses >= row.usesMost
        ? 'used'
        : row.expiresAt <= now
          ? 'expired'
          : row.openedAt === null
            ? 'sent'
            : 'opened',
  uses: row.uses,
  uses_most: row.usesMost,
  opened_at: isoOrNull(row.openedAt),
  expires_at: iso(row.expiresAt),
  created_by: row.createdBy,
  created_at: iso(row.createdAt),
});

/** @throws {Fault} NOT_FOUND */
export async function revokeInvitation(s: PeopleParts, { params, actor }: Command<'revokeInvitation'>): Promise<{ done: true }> {
  const row = await s.store.invitations.byId(params.invitation);
  if (!row) throw new Fault('NOT_FOUND', { detail: 'There is no such invitation.' });
  const shared = await s.store.connections.byId(row.sharedId);
  if (await s.store.invitations.revoke(row.id))
    s.history.add({
      actor: actor.operator.name,
      kind: 'invitation_revoked',
      subject: `connection:${shared?.name ?? ''}`,
      says: 'Revoked an invitation.',
      data: { invitation: row.id },
    });
  return { done: true };
}
