import { X509Certificate } from 'node:crypto';
import type { NewKey } from '../../api/callers.ts';
import { claimsOverlap } from '../../core/callers/assertion.ts';
import { Fault } from '../../core/fault.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { IdentityRow } from '../store/caller-identities.ts';
import type { CallerRow } from '../store/callers.ts';
import { subjectOf } from '../tokens/index.ts';
import { addKey, findCaller } from './callers.ts';
import { inWords } from './identity-view.ts';
import type { CallerParts } from './parts.ts';

const MAX_IDENTITIES = 50;

/** Private parts must never come here; where one does, it is named and nothing is kept. */
function publicKeys(jwks: { keys: Record<string, unknown>[] }): { keys: Record<string, unknown>[] } {
  const wrong = jwks.keys.flatMap((key, at) => [
    ...(['d', 'p', 'q', 'k'].some((part) => Object.hasOwn(key, part))
      ? [{ path: `jwks.keys.${at}`, why: 'This is a private key. Register its public part, and replace the key: it was sent here.' }]
      : []),
    ...(['RSA', 'EC', 'OKP'].includes(String(key.kty)) ? [] : [{ path: `jwks.keys.${at}.kty`, why: 'An RSA, EC or OKP key is needed.' }]),
  ]);
  if (wrong.length > 0) throw new Fault('INPUT_INVALID', { places: wrong });
  return jwks;
}

export async function addIdentity(s: CallerParts, { params, body, actor }: Command<'addIdentity'>): Promise<void> {
  const record = await findCaller(s, params.caller);
  if ((await s.store.callerIdentities.ofCaller(record.id)).length >= MAX_IDENTITIES)
    throw new Fault('INPUT_INVALID', { detail: `A caller has at most ${MAX_IDENTITIES} identities.`, remedy: 'Remove one that nobody uses.' });
  const rule: IdentityRow['rule'] = { jwks: null, jwks_url: null, issuer: null, audience: null, claims: {}, thumbprint: null, subject: null };
  if (body.kind === 'key') Object.assign(rule, { jwks: body.jwks ? publicKeys(body.jwks) : null, jwks_url: body.jwks_url ?? null });
  if (body.kind === 'workload')
    Object.assign(rule, { issuer: body.issuer, jwks_url: body.jwks_url ?? null, audience: body.audience ?? null, claims: body.claims });
  if (body.kind === 'certificate')
    Object.assign(rule, { thumbprint: body.certificate === undefined ? null : thumbprintOf(body.certificate), subject: body.subject ?? null });
  await refuseDouble(
    s,
    record,
    { kind: body.kind, rule },
    body.kind === 'certificate' && body.certificate ? subjectOf(new X509Certificate(body.certificate)) : null,
  );
  const row: IdentityRow = {
    ...{ id: recordId(s.ports), callerId: record.id, kind: body.kind, label: body.label, rule },
    ...{ createdBy: actor.operator.name, createdAt: s.ports.clock.now(), lastUsedAt: null },
  };
  await s.store.callerIdentities.add(row);
  await s.changes.announce('caller', record.name);
  note(s, record, actor, { kind: 'identity_added', says: `It may authenticate with ${inWords(row.kind, rule)}.` });
}

/**
 * What another caller authenticates with stays its own: with a second caller for the same token or certificate, neither could be told apart.
 * @param certified the subject of the certificate that is registered
 * @throws {Fault} INPUT_INVALID
 */
async function refuseDouble(s: CallerParts, caller: CallerRow, { kind, rule }: Pick<IdentityRow, 'kind' | 'rule'>, certified: string | null): Promise<void> {
  const others = (await s.store.callerIdentities.all()).filter((one) => one.callerId !== caller.id && one.kind === kind);
  const { issuer, audience, claims, thumbprint, subject } = rule;
  if (kind === 'workload' && others.some(({ rule: one }) => one.issuer === issuer && one.audience === audience && claimsOverlap(one.claims, claims)))
    throw new Fault('INPUT_INVALID', {
      places: [{ path: 'claims', why: 'A token can match these claims and those of another caller.' }],
      remedy: 'Name a claim that tells the two apart, or another audience.',
    });
  const isSame = ({ rule: one }: IdentityRow) =>
    (thumbprint !== null && one.thumbprint === thumbprint) || (one.subject !== null && (one.subject === subject || one.subject === certified));
  if (kind === 'certificate' && others.some(isSame))
    throw new Fault('INPUT_INVALID', {
      places: [{ path: thumbprint === null ? 'subject' : 'certificate', why: 'Another caller authenticates with it.' }],
      remedy: 'Use a certificate of its own for each caller.',
    });
}

function thumbprintOf(pem: string): string {
  try {
    return new X509Certificate(pem).fingerprint256.replaceAll(':', '').toLowerCase();
  } catch {
    throw new Fault('INPUT_INVALID', { places: [{ path: 'certificate', why: 'Not a certificate in PEM.' }] });
  }
}

export async function removeIdentity(s: CallerParts, { params, actor }: Command<'removeIdentity'>): Promise<void> {
  const record = await findCaller(s, params.caller);
  const row = (await s.store.callerIdentities.ofCaller(record.id)).find((one) => one.id === params.identity);
  if (!row) throw new Fault('NOT_FOUND', { detail: 'The caller has no such identity.' });
  await s.store.callerIdentities.remove(record.id, row.id);
  await s.changes.announce('caller', record.name);
  note(s, record, actor, { kind: 'identity_removed', says: `It may no longer authenticate with ${inWords(row.kind, row.rule)}.` });
}

const note = (s: CallerParts, { name }: CallerRow, { operator }: Command<'rotateKey'>['actor'], entry: { kind: string; says: string }): void =>
  s.history.add({ actor: operator.name, subject: `caller:${name}`, ...entry });

/** A new key; those in use end after the overlap, in which the tool is switched. */
export async function rotateKey(s: CallerParts, { params, body, actor }: Command<'rotateKey'>): Promise<NewKey> {
  const record = await findCaller(s, params.caller);
  const now = s.ports.clock.now();
  const endsAt = now + body.overlap_hours * 3_600_000;
  const former = (await s.store.callers.keysOf(record.id)).filter((key) => !key.retired && (key.endsAt === null || key.endsAt > endsAt));
  const made = await addKey(s, { params, body: { label: body.label, ends_at: null }, actor });
  for (const key of former) await s.store.callers.endKey(key.id, endsAt);
  await s.changes.announce('caller', record.name);
  note(s, record, actor, { kind: 'key_rotated', says: `Added a key; ${former.length} former keys end ${iso(endsAt).slice(0, 16)}Z.` });
  return made;
}
