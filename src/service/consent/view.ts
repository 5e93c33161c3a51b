import type { ConsentOutcome } from '../../api/connections.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { clientPage } from '../clients/index.ts';
import { attemptView, lifetimeOf } from '../grants/index.ts';
import { iso, isoOrNull } from '../iso.ts';
import { emptyOutcome, registeringOf } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { ConnectionRow } from '../store/connections.ts';
import type { ConsentRow } from '../store/consents.ts';
import { STALE_PROBLEMS } from './outcome.ts';
import type { ConsentParts } from './parts.ts';

export interface ConsentParties {
  connection: ConnectionRow;
  client: ClientRow;
  definition: ProviderDefinition;
  unconfirmed: string[];
  /** Values of the client and the connection together. */
  placeholders: Record<string, string>;
}

/** A consent as it is shown, at any of its steps. Only operators see the masked wire and where the browser is to go. */
export async function outcomeView(s: ConsentParts, consent: ConsentRow, parties: ConsentParties, operator: string | null): Promise<ConsentOutcome> {
  const { client, definition, connection } = parties;
  const now = s.ports.clock.now();
  const facts = consent.facts;
  const stale = consent.finishedAt === null && consent.expiresAt <= now ? (STALE_PROBLEMS[consent.phase] ?? null) : null;
  const outcome = { ...emptyOutcome(), ...consent.outcome };
  const waits = consent.phase === 'started' && stale === null;
  const { device } = facts;
  const finished = consent.finishedAt !== null;
  return {
    ...outcome,
    id: consent.id,
    connection: connection.name,
    provider: definition.name,
    provider_title: definition.title,
    client: client.name,
    way: consent.way,
    by_itself: consent.way === 'by_itself',
    rehearsal: client.rehearsalPort !== null,
    device:
      device && consent.phase === 'polling'
        ? {
            user_code: device.userCode,
            page: device.page,
            page_with_code: device.pageWithCode,
            interval_seconds: device.intervalMs / 1000,
            polls: device.polls,
          }
        : null,
    wants_pasted: waits && operator !== null && operator === consent.openedBy,
    authorization_url: waits && operator !== null && operator === consent.openedBy ? await whereTo(s, consent) : null,
    wants_code: consent.way === 'printed' && consent.phase === 'offered' ? printing(client, definition) : null,
    moves_to: facts.movesTo ?? null,
    prepares: facts.prepares === true,
    phase: stale ? 'failed' : consent.phase,
    expires_at: iso(consent.expiresAt),
    redirect_uri: facts.redirectUri ?? client.redirectUri,
    finished_at: isoOrNull(consent.finishedAt),
    problem: stale ?? outcome.problem,
    page_diagnosis: facts.pageDiagnosis ?? null,
    lifetime: finished && outcome.scopes !== null ? await lifetimeOf(s, consent.grantId) : null,
    attempts: operator !== null && (finished || stale) ? (await s.wireLog.list(consent.grantId)).map(attemptView) : [],
  };
}

/** Where the browser goes, for a consent that comes back by hand or by `rk`. */
async function whereTo(s: Pick<ConsentParts, 'sealer'>, consent: ConsentRow): Promise<string | null> {
  if (consent.deviceSealed === null || consent.way === 'device') return null;
  return (await s.sealer.open({ table: 'consents', row: consent.id, column: 'device_sealed' }, consent.deviceSealed)).reveal();
}

function printing(client: ClientRow, definition: ProviderDefinition): NonNullable<ConsentOutcome['wants_code']> {
  const { registration } = definition;
  return {
    page: clientPage(client, definition, registeringOf(client)) ?? registration.page ?? null,
    seconds: registration.printed_code_seconds ?? 240,
    called: registration.parts.find((one) => one.part === 'printed_code')?.title ?? 'Print a code',
  };
}
