import { Fault } from '../../core/fault.ts';
import { base32Code } from '../../core/identifiers.ts';
import { shortKey } from '../../core/people/person-key.ts';
import { hashOf } from '../hash.ts';
import { limitsOf, type SignedInOperator } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { type ConnectionRow, NO_PERSON } from '../store/connections.ts';
import type { PeopleParts } from './parts.ts';

const CODE_CHARACTERS = 16;

/** To an account that is limited to labels, a caller beyond its limit does not exist. */
export async function withoutOthersCallers<T extends { caller: string | null }>(
  s: Pick<PeopleParts, 'store'>,
  items: T[],
  operator: Pick<SignedInOperator, 'labels'>,
): Promise<T[]> {
  const limits = limitsOf(operator);
  if (limits === undefined) return items;
  const within = await s.store.limits.callersWithin([...new Set(items.flatMap((one) => one.caller ?? []))], limits);
  return items.map((one) => (one.caller === null || within.has(one.caller) ? one : { ...one, caller: null }));
}

/** @throws {Fault} NOT_FOUND; INPUT_INVALID where the connection is not shared */
export async function findShared(s: Pick<PeopleParts, 'store'>, name: string): Promise<ConnectionRow> {
  const row = await s.store.connections.byName(name);
  if (!row || row.personOf !== null) throw new Fault('NOT_FOUND', { detail: `Connection "${name}" not found.` });
  if (!row.shared)
    throw new Fault('INPUT_INVALID', {
      detail: `${name} holds one grant. People connect to shared connections.`,
      remedy: 'Add a connection with `--shared`, or tick "Shared" in the form.',
    });
  return row;
}

/** @throws {Fault} NOT_FOUND */
export async function findPerson(s: Pick<PeopleParts, 'store'>, shared: Pick<ConnectionRow, 'id' | 'name'>, key: string): Promise<ConnectionRow> {
  const row = await s.store.connections.ofPerson(shared.id, hashOf(key));
  if (!row) throw new Fault('NOT_FOUND', { detail: `${shared.name} has no person with the key ${shortKey(key)}.`, remedy: 'Invite the person first.' });
  return row;
}

/** The person's row, made where there is none yet. Whoever is second to make it gets the first one's. */
export async function ensurePerson(
  s: PeopleParts,
  shared: ConnectionRow,
  person: { key: string; name: string | null; expectedAccount: string | null; mail: string | null; labels: readonly string[]; invitedBy: string | null },
): Promise<ConnectionRow> {
  const hash = hashOf(person.key);
  const known = await s.store.connections.ofPerson(shared.id, hash);
  if (known) {
    const set = {
      ...(person.name !== null && person.name !== known.personName ? { personName: person.name } : {}),
      ...(person.mail !== null && person.mail !== known.personMail ? { personMail: person.mail } : {}),
      ...(person.invitedBy !== null && person.invitedBy !== known.invitingCallerId ? { invitingCallerId: person.invitedBy } : {}),
      ...(person.expectedAccount !== null && person.expectedAccount !== known.expectedAccount ? { expectedAccount: person.expectedAccount } : {}),
    };
    if (Object.keys(set).length > 0) await s.store.connections.change(known.id, set);
    return { ...known, ...set };
  }
  const row = {
    ...NO_PERSON,
    id: recordId(s.ports),
    name: `${shared.name}@${base32Code(s.ports.random.bytes(CODE_CHARACTERS), CODE_CHARACTERS)}`,
    clientId: shared.clientId,
    intent: 'active' as const, // not yet consented: nothing else is missing
    currentGrantId: null,
    standbyGrantId: null,
    standbyWhy: null,
    scopes: shared.scopes,
    expectedAccount: person.expectedAccount,
    policy: shared.policy,
    lastUsedAt: null,
    grantType: shared.grantType,
    placeholders: shared.placeholders,
    operations: shared.operations,
    revision: 1,
    createdAt: s.ports.clock.now(),
    personOf: shared.id,
    personHash: hash,
    personKey: person.key,
    personName: person.name,
    personMail: person.mail,
    invitingCallerId: person.invitedBy,
  };
  try {
    await s.store.connections.add(row, person.labels);
  } catch (error) {
    const other = await s.store.connections.ofPerson(shared.id, hash); // two invitations at once: one row
    if (other) return other;
    throw error;
  }
  return { ...row, labels: {} };
}
