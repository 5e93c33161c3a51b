import { base64url } from '../../core/identifiers.ts';
import { hashOf } from '../hash.ts';
import { recordId } from '../ports.ts';
import type { InvitationRow } from '../store/invitations.ts';
import type { PeopleParts } from './parts.ts';

const TICKET_BYTES = 24;
/** A private link lives for as long as someone may want to take back what they gave. */
const OWN_LINK_MS = 366 * 86_400_000;

export const urlOf = (s: Pick<PeopleParts, 'settings'>, ticket: string): string => `${s.settings.publicUrl}/i/${ticket}`;

type Wanted = Pick<
  InvitationRow,
  'kind' | 'sharedId' | 'connectionId' | 'callerId' | 'purpose' | 'returnTo' | 'callerState' | 'usesMost' | 'expiresAt' | 'createdBy'
>;

/** A link for one person. The ticket is kept as a hash: it is shown now, and never again. */
export async function makeLink(s: PeopleParts, wanted: Wanted): Promise<{ row: InvitationRow; ticket: string }> {
  const ticket = base64url(s.ports.random.bytes(TICKET_BYTES));
  const row: InvitationRow = {
    ...wanted,
    id: recordId(s.ports),
    ticketHash: hashOf(ticket),
    uses: 0,
    starts: 0,
    revokedAt: null,
    openedAt: null,
    createdAt: s.ports.clock.now(),
    consentId: null,
    codeHash: null,
    codeExpiresAt: null,
  };
  await s.store.invitations.add(row);
  return { row, ticket };
}

/** A person's private link to what they connected: to look at, to reconnect, to disconnect. */
export async function makeOwnLink(
  s: PeopleParts,
  of: Pick<InvitationRow, 'sharedId' | 'connectionId' | 'callerId' | 'purpose'> & { returnTo?: string | null },
): Promise<{ row: InvitationRow; ticket: string }> {
  return makeLink(s, {
    sharedId: of.sharedId,
    connectionId: of.connectionId,
    callerId: of.callerId,
    purpose: of.purpose,
    kind: 'own',
    returnTo: of.returnTo ?? null,
    callerState: null,
    usesMost: null,
    expiresAt: s.ports.clock.now() + OWN_LINK_MS,
    createdBy: 'service',
  });
}
