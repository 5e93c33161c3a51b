import type { z } from 'zod';
import type { AddSecret } from '../../api/clients.ts';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { chooseAlgorithm, type KeyFacts, keyNameProblem, readClientKey } from '../../core/oauth/client-keys.ts';
import { type ClientAssertionAlgorithm, kindsFor } from '../../core/oauth/methods.ts';
import { readTokenOutcome } from '../../core/oauth/token-answer.ts';
import { tokenRequest } from '../../core/oauth/token-request.ts';
import { isSpendable, type ProviderDefinition } from '../../core/provider/definition.ts';
import { requestDeadlineMs } from '../../core/renewal/plan.ts';
import { bringForward } from '../../core/renewal/transitions.ts';
import { Secret } from '../../core/secret.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { methodOf, refuseUnconfirmed, unconfirmedOf, WAITS_UNTIL } from '../records/index.ts';
import { evidenceText, signingOf } from '../renewal/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { SecretRow } from '../store/secrets.ts';
import { clientLabel, entered, findClient, refuseMisplaced } from './clients.ts';
import type { ClientParts } from './parts.ts';

/** A secret is verified by a renewal of one of so many grants. */
const MAX_PROVED_BY = 5;

/**
 * Seals a new secret beside those that are there. Where one is in use, the new one is verified first and the old one stays until then;
 * where none is, or with `at_once`, it is used from now on. Nothing else of the client needs to be said again.
 * `waits`: it was made here and is not known at the provider yet, so that it is not tried before someone shows it.
 * @throws {Fault} INPUT_INVALID
 */
export async function addSecret(s: ClientParts, { params, body: input, actor }: Command<'addSecret'>, more: { waits?: boolean } = {}): Promise<void> {
  const { provider, client: name } = params;
  const operator = actor.operator.name;
  const { record, definition } = await findClient(s, provider, name);
  const now = s.ports.clock.now();
  const { value, facts } = await readSecret(s, definition, record, input);
  const [startsAt, endsAt] = [at(input.starts_at) ?? facts?.startsAt ?? now, at(input.ends_at) ?? facts?.endsAt ?? null];
  checkDates(startsAt, endsAt, now);
  const id = recordId(s.ports);
  const before = (await s.store.secrets.ofClient(record.id)).filter(
    (one) => one.state !== 'retired' && kindsFor(methodOf(record, definition)).includes(one.kind),
  );
  const inUse = before.some((one) => one.state === 'active' && one.refusedAt === null);
  const row: SecretRow = {
    id,
    clientId: record.id,
    kind: input.kind,
    label: input.label,
    sealed: s.sealer.seal({ table: 'client_secrets', row: id, column: 'sealed' }, value),
    enteredAt: now,
    startsAt,
    endsAt,
    provedAt: null,
    refusedAt: null,
    refusedWhy: null,
    tryingUntil: more.waits && inUse ? WAITS_UNTIL : null,
    facts,
    state: inUse && !input.at_once ? 'unverified' : 'active',
  };
  await s.store.secrets.add(row, input.at_once ? 'all' : inUse ? 'none' : 'active');
  s.history.add({
    actor: operator,
    kind: 'secret_entered',
    subject: `client:${clientLabel(provider, name)}`,
    says: row.state === 'unverified' ? `Entered a new ${input.kind}; it is verified before it replaces the current one.` : `Entered a new ${input.kind}.`,
  });
  const stopped = record.health === 'stopped';
  if (row.state === 'active' || stopped) await entered(s, record);
  else await s.changes.announce('client', record.name);
  const confirmed = unconfirmedOf(record, definition).length === 0;
  if (row.state === 'unverified' && !more.waits && startsAt <= now && confirmed && canAskForItself(record, definition))
    await verifyByOwnToken(s, record, definition, row);
}

const at = (instant: string | null): number | null => (instant === null ? null : Date.parse(instant));

/** @throws {Fault} INPUT_INVALID: dates that cannot be meant. */
function checkDates(startsAt: number, endsAt: number | null, now: number): void {
  const why =
    endsAt !== null && endsAt <= now
      ? `It ended on ${new Date(endsAt).toISOString().slice(0, 10)}: the provider will not take it.`
      : endsAt !== null && endsAt <= startsAt
        ? 'It would expire before it starts.'
        : null;
  if (why) throw new Fault('INPUT_INVALID', { detail: why, places: [{ path: 'ends_at', why }], remedy: 'Make a new one at the provider, or fix the date.' });
}

async function readSecret(
  s: Pick<ClientParts, 'documents'>,
  definition: ProviderDefinition,
  record: ClientRow,
  input: z.output<typeof AddSecret>,
): Promise<{ value: Secret; facts: KeyFacts | null }> {
  const method = methodOf(record, definition);
  const kinds = kindsFor(method);
  if (!kinds.includes(input.kind))
    throw new Fault('INPUT_INVALID', {
      places: [
        { path: 'kind', why: kinds.length === 0 ? 'This client authenticates without any secret.' : `With ${method} it is one of: ${kinds.join(', ')}.` },
      ],
      remedy: 'Choose another kind, or change how the client authenticates.',
    });
  if (input.kind === 'secret' || input.kind === 'password') {
    if (/-----BEGIN/.test(input.secret))
      throw new Fault('INPUT_INVALID', {
        places: [{ path: 'secret', why: 'This is a PEM block, not a secret.' }],
        remedy: 'Choose the kind certificate or key.',
      });
    if (!input.take_as_is && input.kind === 'secret') refuseMisplaced(definition, 'client_secret', input.secret);
    return { value: new Secret(input.secret), facts: null };
  }
  const taken = input.form === 'pkcs12' ? await s.documents.read('pkcs12', { base64: input.secret, password: input.password }) : null;
  const { pem, facts } = await readClientKey(taken?.pem ?? input.secret, input.kind);
  return {
    value: pem,
    facts: { ...facts, keyId: input.key_id === undefined ? facts.kid : input.key_id, algorithm: signingFor(definition, facts, input.algorithm) },
  };
}

/** With what this key signs at this provider. @throws {Fault} INPUT_INVALID */
function signingFor(definition: ProviderDefinition, facts: KeyFacts, chosen: ClientAssertionAlgorithm | undefined): ClientAssertionAlgorithm {
  const { algorithm: preferred, key_name: keyName } = definition.dialect.client_assertion;
  const choice = chooseAlgorithm(facts.type, preferred, definition.server.token_endpoint_auth_signing_alg_values_supported, chosen);
  const why = 'why' in choice ? choice.why : keyNameProblem(facts, keyName);
  if (why !== null)
    throw new Fault('INPUT_INVALID', {
      detail: why,
      places: [{ path: chosen === undefined ? 'secret' : 'algorithm', why }],
      remedy: 'Make a key of a kind that the provider takes, or choose another algorithm.',
    });
  return (choice as { algorithm: ClientAssertionAlgorithm }).algorithm;
}

/** Changes expiration date, label, key ID or algorithm of a secret; its value stays. @throws {Fault} NOT_FOUND, INPUT_INVALID */
export async function changeSecret(s: ClientParts, { params, body: input, actor }: Command<'changeSecret'>): Promise<void> {
  const { provider, client: name, secret: id } = params;
  const operator = actor.operator.name;
  const { definition, record, row } = await findSecret(s, provider, name, id);
  const facts = row.facts;
  if (!facts && (input.key_id !== undefined || input.algorithm !== undefined))
    throw new Fault('INPUT_INVALID', {
      places: [{ path: input.key_id === undefined ? 'algorithm' : 'key_id', why: 'This secret is not a key.' }],
      remedy: 'Leave it out. Only keys and certificates have it.',
    });
  const endsAt = input.ends_at === undefined ? row.endsAt : at(input.ends_at);
  if (input.ends_at !== undefined) checkDates(row.startsAt, endsAt, s.ports.clock.now());
  const signing = facts
    ? {
        ...facts,
        ...(input.key_id === undefined ? {} : { keyId: input.key_id }),
        ...(input.algorithm === undefined ? {} : { algorithm: signingFor(definition, facts, input.algorithm) }),
      }
    : null;
  await s.store.secrets.change(id, { label: input.label ?? row.label, endsAt, facts: signing });
  const changed = Object.keys(input).map((key) => CHANGED[key as keyof typeof CHANGED]);
  s.history.add({
    actor: operator,
    kind: 'secret_changed',
    subject: `client:${clientLabel(provider, name)}`,
    says: `Changed ${changed.join(', ')} of a ${row.kind}.`,
  });
  if (input.key_id !== undefined || input.algorithm !== undefined) await entered(s, record);
  else await s.changes.announce('client', record.name);
}
const CHANGED = { ends_at: 'expiration date', label: 'label', key_id: 'key ID', algorithm: 'algorithm' };

/** True where a client-credentials request can prove a secret: it spends nothing. */
const canAskForItself = (record: Pick<ClientRow, 'clientId' | 'type'>, definition: ProviderDefinition): boolean =>
  record.clientId !== null &&
  record.type === 'service_account' &&
  definition.server.grant_types_supported.includes('client_credentials') &&
  !definition.server.token_endpoint.includes('{');

/** One client-credentials request with this secret. True: the provider takes it; false: it rejects it; null: it did not say. */
async function verifyByOwnToken(s: ClientParts, record: ClientRow, definition: ProviderDefinition, row: SecretRow): Promise<boolean | null> {
  const client = { id: record.id, name: clientLabel(definition.name, record.name) };
  const secret = await s.sealer.open({ table: 'client_secrets', row: row.id, column: 'sealed' }, row.sealed);
  const credentials = {
    clientId: record.clientId ?? '',
    method: methodOf(record, definition),
    secret,
    secretId: row.id,
    signing: signingOf(row.facts),
  };
  const once = { now: s.ports.clock.now(), deadlineMs: requestDeadlineMs(s.settings.limits, null), jti: base64url(s.ports.random.bytes(16)) };
  const scopes = record.registeredScopes.slice(0, 1);
  const outcome = readTokenOutcome(
    await s.ports.send(await tokenRequest(definition, credentials, { grantType: 'client_credentials', scopes }, once)),
    definition.dialect,
  );
  if (outcome.kind === 'tokens') {
    await s.clientSecrets.verified(client, row.id);
    return true;
  }
  if (outcome.kind !== 'client_refused') return null;
  await s.clientSecrets.refused(client, row.id, evidenceText(outcome.evidence));
  return false;
}

/** @throws {Fault} NOT_FOUND */
export async function findSecret(s: ClientParts, provider: string, name: string, id: string) {
  const found = await findClient(s, provider, name);
  const row = await s.store.secrets.ofClientById(found.record.id, id);
  if (!row || row.state === 'retired') throw new Fault('NOT_FOUND', { detail: 'The client has no such secret, or it was retired.' });
  return { ...found, row };
}

/**
 * Verifies a secret now where that can spend nothing: by a client-credentials request, or by a renewal whose refresh token is not spent
 * by its use. Otherwise the next due renewal does it: then that is said.
 * @throws {Fault} SECRET_NOT_VERIFIED
 */
export async function verifySecret(s: ClientParts, { params, actor }: Command<'verifySecret'>): Promise<void> {
  const { provider, client: name, secret: id } = params;
  const operator = actor.operator.name;
  const { record, definition, row } = await findSecret(s, provider, name, id);
  refuseUnconfirmed(unconfirmedOf(record, definition));
  if (row.startsAt > s.ports.clock.now()) throw new Fault('SECRET_NOT_VERIFIED', { detail: `It is not valid before ${new Date(row.startsAt).toISOString()}.` });
  await s.store.secrets.changeIn(id, row.state, { tryingUntil: null });
  s.history.add({ actor: operator, kind: 'secret_asked', subject: `client:${clientLabel(provider, name)}`, says: 'Requested verification of a secret.' });
  if (canAskForItself(record, definition)) {
    const taken = await verifyByOwnToken(s, record, definition, row);
    if (taken === null)
      throw new Fault('SECRET_NOT_VERIFIED', {
        detail: 'The provider answered a client-credentials request neither with a token nor with a rejection of the client.',
      });
    return;
  }
  const grants = await s.store.connections.activeGrantsOf(record.id, MAX_PROVED_BY);
  if (grants.length === 0)
    throw new Fault('SECRET_NOT_VERIFIED', {
      detail: 'There is no connection yet whose renewal could verify it.',
      remedy: 'Open a connection: the exchange of its code verifies the secret.',
    });
  if (row.state === 'rejected') await s.store.secrets.changeIn(id, 'rejected', { state: 'unverified', refusedAt: null, refusedWhy: null });
  if (isSpendable(definition.dialect))
    throw new Fault('SECRET_NOT_VERIFIED', {
      detail: 'At this provider every renewal spends a refresh token, so none is made only to verify a secret.',
      remedy: 'Nothing to do: the next renewal that is due verifies it, and the current one stays until then.',
    });
  for (const grantId of grants) {
    if ((await s.store.renewals.update([grantId], bringForward())) === 0) continue;
    await s.engine.renewOne(grantId);
    break;
  }
}

/** Forgets a secret's value. The last one that works is not taken away while connections need it. @throws {Fault} IN_USE */
export async function retireSecret(s: ClientParts, { params, actor }: Command<'retireSecret'>): Promise<void> {
  const { provider, client: name, secret: id } = params;
  const operator = actor.operator.name;
  const { record, row } = await findSecret(s, provider, name, id);
  const others = (await s.store.secrets.ofClient(record.id)).filter(
    (one) => one.id !== id && one.state !== 'retired' && one.refusedAt === null && one.provedAt !== null,
  );
  if (row.state === 'active' && others.length === 0 && (await s.store.connections.hasAny(record.id)))
    throw new Fault('IN_USE', { detail: 'It is the current one, and no other one is verified.', remedy: 'Add a new secret and let it be verified first.' });
  await s.store.secrets.retire(id);
  const [next] = others;
  if (row.state === 'active' && next) await s.store.secrets.change(next.id, { state: 'active' });
  s.history.add({
    actor: operator,
    kind: 'secret_retired',
    subject: `client:${clientLabel(provider, name)}`,
    says: `Retired a ${row.kind}: its value is discarded.`,
  });
  await s.changes.announce('client', record.name);
}
