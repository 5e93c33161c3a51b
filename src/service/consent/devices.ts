import { diagnoseTokenRequest } from '../../core/diagnosis/token-request.ts';
import { base64url } from '../../core/identifiers.ts';
import { deviceAuthorizationRequest, pollingStep, readDeviceAuthorization } from '../../core/oauth/device.ts';
import { wireRecord } from '../../core/oauth/wire-record.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import { diagnosisInput } from '../grants/index.ts';
import { emptyOutcome } from '../records/index.ts';
import { evidenceText } from '../renewal/index.ts';
import type { ConsentRow, StoredOutcome } from '../store/consents.ts';
import { ask, incomplete, settle } from './exchange.ts';
import { INVITATION_USED, problemOf } from './outcome.ts';
import type { ConsentParts } from './parts.ts';
import type { ConsentParties } from './view.ts';

/** The parties of a consent, and the run of its exchange. */
export interface ConsentRuns {
  parties(consent: ConsentRow): Promise<ConsentParties>;
  run(consent: ConsentRow, work: (advance: () => Promise<boolean>) => Promise<StoredOutcome>): void;
}

/** Consents by a code that is entered on another device (RFC 8628): requested, polled for on one replica at a time, exchanged. */
const LOOK_EVERY_MS = 400;
const AT_ONCE = 20;
/** A poll that did not come back is discarded after so long, and someone else may poll. */
const MAX_POLL_MS = 30_000;

/** Asks for a device code and shows it. What went wrong, or null. */
export async function askForDevice(s: ConsentParts, consent: ConsentRow, { client, definition, placeholders }: ConsentParties): Promise<StoredOutcome | null> {
  const [credentials] = (await s.contexts.credentialsOf(client.id, definition)).inOrder;
  if (!credentials) return incomplete();
  const once = { now: s.ports.clock.now(), deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const scopes = consent.scopes;
  const request = await deviceAuthorizationRequest(definition, credentials, scopes, once);
  const seen = await s.ports.send(request);
  const answer = readDeviceAuthorization(seen, definition);
  s.wireLog.add(consent.grantId, 19, answer.kind === 'given' ? 'device' : answer.outcome.kind, () => wireRecord(request, seen));
  if (answer.kind === 'failed') {
    const parties = { client, definition, placeholders, redirectUri: client.redirectUri, scopes };
    const asked = await diagnosisInput(s, parties, { grantType: 'device_code', credentials }, seen);
    return { ...emptyOutcome(), problem: problemOf(diagnoseTokenRequest(asked, answer.outcome, evidenceText(answer.outcome.evidence))) };
  }
  const { deviceCode, userCode, page, pageWithCode, lifeMs, intervalMs } = answer.device;
  await s.store.consents.advance(consent.id, 'exchanging', {
    phase: 'polling',
    expiresAt: once.now + lifeMs,
    pollAt: once.now + intervalMs,
    facts: { ...consent.facts, device: { userCode, page, pageWithCode, intervalMs, polls: 0 } },
    deviceSealed: s.sealer.seal({ table: 'consents', row: consent.id, column: 'device_sealed' }, deviceCode),
  });
  return null;
}

/** Polls for every consent that is due, each on whichever replica claims it first by a conditional update. Ends when told to stop. */
export async function pollDevices(s: ConsentParts, agreed: ConsentRuns, stop: AbortSignal): Promise<void> {
  while (!stop.aborted) {
    try {
      await Promise.all((await s.store.consents.duePolls(AT_ONCE)).map((id) => poll(s, agreed, id)));
    } catch (cause) {
      s.ports.log.error({ event: 'devices.round_failed', cause: cause instanceof Error ? cause.message : 'unknown' }, 'polling for devices failed');
    }
    await s.ports.sleep(LOOK_EVERY_MS, stop);
  }
}

async function poll(s: ConsentParts, agreed: ConsentRuns, id: string): Promise<void> {
  const consent = (await s.store.consents.claimPoll(id, MAX_POLL_MS)) ? await s.store.consents.byId(id) : null;
  const device = consent?.facts.device;
  if (!consent || !device || consent.deviceSealed === null) return;
  const parties = await agreed.parties(consent);
  if (parties.unconfirmed.length > 0) return; // nothing goes where nobody confirmed that it may
  const deviceCode = await s.sealer.open({ table: 'consents', row: id, column: 'device_sealed' }, consent.deviceSealed);
  let verifying: () => Promise<unknown> = async () => undefined;
  const x = { consent, ...parties, asks: { grantType: 'device_code' as const, deviceCode }, verifying: () => verifying() };
  const asking = await ask(s, x, device.polls % 19);
  const step = asking ? pollingStep(asking.answer, device.intervalMs) : { kind: 'ended' as const };
  if (step.kind === 'wait') {
    const facts = { ...consent.facts, device: { ...device, intervalMs: step.intervalMs, polls: device.polls + 1 } };
    await s.store.consents.advance(id, 'polling', { facts, pollAt: s.ports.clock.now() + step.intervalMs });
    return;
  }
  const invitation = asking?.answer.kind === 'tokens' ? consent.facts.invitation : undefined;
  if (invitation !== undefined && !(await s.keeper.keep('use of an invitation', () => s.store.invitations.take(invitation, id)))) {
    agreed.run(consent, () => Promise.resolve({ ...emptyOutcome(), problem: INVITATION_USED }));
    return;
  }
  // The answer may hold the only copy of the tokens: it is carried on whatever the database says of the phase.
  await s.keeper.keep('device answer', () => s.store.consents.advance(id, 'polling', { phase: 'exchanging', pollAt: null }));
  agreed.run(consent, (advance) => {
    verifying = advance;
    return asking ? settle(s, x, asking) : Promise.resolve(incomplete());
  });
}
