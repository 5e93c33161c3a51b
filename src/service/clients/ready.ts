import type { z } from 'zod';
import type { ReadyLines } from '../../api/clients.ts';
import { operationsOf } from '../../core/clients/privilege.ts';
import { readyInOne, readyLines, type Standing } from '../../core/clients/ready.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { missingOf, registeringOf, unconfirmedOf, WAITS_UNTIL } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { SecretRow } from '../store/secrets.ts';

interface Wanted {
  grantType: string;
  scopes: readonly string[];
  operations: readonly string[];
  expectedAccount: string | null;
}

/** How far the newest certificate or key that is not retired has come: made here, entered, or accepted by the provider. */
function certificateOf(secrets: readonly SecretRow[]): Pick<Standing, 'certificate'> {
  const keys = secrets.filter((one) => (one.kind === 'certificate' || one.kind === 'key') && one.state !== 'retired');
  const [newest] = keys.toSorted((one, other) => (other.enteredAt ?? other.startsAt) - (one.enteredAt ?? one.startsAt));
  if (!newest) return {};
  if (newest.provedAt !== null) return { certificate: 'verified' };
  // One that was made here has never left: the provider can know its public part alone.
  return { certificate: newest.tryingUntil !== null && newest.tryingUntil >= WAITS_UNTIL ? 'made_here' : 'entered' };
}

/** Everything known before a consent, for a client on its own or for one connection through it. */
export function readyOf(
  record: ClientRow,
  definition: ProviderDefinition,
  { secrets, wanted }: { secrets: readonly SecretRow[]; wanted: Wanted | null },
  now: number,
): z.output<typeof ReadyLines> {
  const registering = registeringOf(record);
  const standing: Standing = {
    missing: missingOf(record, definition, secrets, now),
    unconfirmed: unconfirmedOf(record, definition),
    redirectUri: record.redirectUri,
    redirectUrisThere: registering.redirect_uris_there,
    domainsThere: registering.domains_there,
    approval: record.approval,
    reach: record.reach,
    listedAccounts: record.listedAccounts,
    ...certificateOf(secrets),
    works: secrets.some((one) => one.provedAt !== null && one.refusedAt === null),
    registeredScopes: record.registeredScopes,
    wants: wanted && {
      grantType: wanted.grantType,
      scopes: wanted.scopes,
      operations: operationsOf(definition).filter((operation) => wanted.operations.includes(operation.id)),
      expectedAccount: wanted.expectedAccount,
    },
  };
  const lines = readyLines(definition, standing);
  return { ready: lines.every((line) => line.verdict !== 'missing'), says: readyInOne(lines), lines };
}
