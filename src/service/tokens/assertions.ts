import { X509Certificate } from 'node:crypto';
import type { JSONWebKeySet } from 'jose';
import { LRUCache } from 'lru-cache';
import { z } from 'zod';
import { claimsOf, MAX_ASSERTION, matchesClaims, verifyAssertion } from '../../core/callers/assertion.ts';
import type { Send } from '../../core/oauth/wire.ts';
import { metadataUrl } from '../../core/sign-in/oidc.ts';
import { hashOf } from '../hash.ts';
import type { Changes } from '../history/index.ts';
import { published } from '../outgoing/index.ts';
import type { Ports } from '../ports.ts';
import type { CallerIdentityStore, KnownIdentity } from '../store/caller-identities.ts';
import type { CallerDirectory, KnownCaller } from './caller-directory.ts';
import type { PresentedCertificate } from './oauth-answer.ts';

/** Callers that authenticate with an assertion or a certificate: nothing of theirs that is secret is stored here. */
export interface Assertions {
  /** Who signed this JWT, or why nobody known did. @param clientId what else the request names, or null */
  ofJwt(jwt: string, clientId: string | null): Promise<{ caller: KnownCaller } | { wrong: string }>;
  /** Whose certificate this is (RFC 8705). */
  ofCertificate(certificate: PresentedCertificate, clientId: string | null): Promise<{ caller: KnownCaller } | { wrong: string }>;
}

const LIMITS = { deadlineMs: 5_000, limitBytes: 200_000, keptMs: 10 * 60_000, places: 200, keys: 100 };
const MAX_CANDIDATES = 20;
const USED_EVERY_MS = 60_000;
const OWN_KEPT_MS = 15 * 60_000;
const Metadata = z.object({ issuer: z.string(), jwks_uri: z.string() });

/** As it is registered: its parts with commas between them. */
export const subjectOf = (certificate: X509Certificate): string => certificate.subject.split('\n').join(',');

export function assertions(s: {
  store: CallerIdentityStore;
  callers: Pick<CallerDirectory, 'find'>;
  changes: Changes;
  send: Send;
  publicUrl: string;
  ports: Pick<Ports, 'clock' | 'log'>;
}): Assertions {
  let known: Promise<KnownIdentity[]> | null = null;
  s.changes.onChange((kind) => {
    if (kind === 'caller' || kind === 'connection') known = null;
  });
  const identities = (): Promise<KnownIdentity[]> => {
    known ??= s.store.all().catch((error: unknown) => {
      known = null;
      throw error;
    });
    return known;
  };
  const documents = published({ send: s.send, ports: s.ports, limits: LIMITS });
  /** Keys of an issuer by its own metadata (OpenID Connect Discovery §4), or of an address. */
  const keysAt = async ({ jwks, jwks_url, issuer }: KnownIdentity['rule'], again: boolean): Promise<JSONWebKeySet | null> => {
    if (jwks !== null) return jwks as unknown as JSONWebKeySet;
    return documents.kept(jwks_url ?? issuer ?? '', again, async () => {
      let url = jwks_url;
      if (url === null) {
        const metadata = Metadata.safeParse(await documents.json(metadataUrl(issuer ?? '')));
        if (!metadata.success || metadata.data.issuer !== issuer) return null;
        url = metadata.data.jwks_uri;
      }
      const keys = await documents.keys(url);
      if (keys === null)
        s.ports.log.warn({ event: 'callers.keys_not_fetched', url }, 'the public keys of callers could not be fetched; those known stay in use');
      return keys;
    });
  };
  const noted = new LRUCache<string, number>({ max: 5_000 });
  const found = async (identity: KnownIdentity): Promise<{ caller: KnownCaller } | { wrong: string }> => {
    const caller = await s.callers.find(identity.caller);
    if (!caller) return { wrong: 'Its caller was removed.' };
    const now = s.ports.clock.now();
    if (now - (noted.get(identity.id) ?? 0) > USED_EVERY_MS) {
      noted.set(identity.id, now);
      void s.store.used(identity.id, now).catch(() => undefined); // it is written down with the next use
    }
    return { caller };
  };
  const verified = async (jwt: string, identity: KnownIdentity, own: boolean) => {
    const audiences = identity.rule.audience === null ? [`${s.publicUrl}/oauth/token`, s.publicUrl] : [identity.rule.audience];
    const options = { audiences, own, now: s.ports.clock.now() };
    const keys = await keysAt(identity.rule, false);
    if (keys === null) return { wrong: 'Its keys cannot be fetched now.', unknownKey: false };
    const first = await verifyAssertion(jwt, { ...options, keys });
    if ('claims' in first || !first.unknownKey || identity.rule.jwks !== null) return first;
    const fresh = await keysAt(identity.rule, true);
    return fresh === null || fresh === keys ? first : verifyAssertion(jwt, { ...options, keys: fresh });
  };
  /** Signed with a key of the caller itself (OpenID Connect Core §9, private_key_jwt): each is good once. */
  const ofOwnKey = async (jwt: string, callerId: string, all: readonly KnownIdentity[]): Promise<{ caller: KnownCaller } | { wrong: string }> => {
    let wrong = 'No key is registered for this caller.';
    for (const identity of all.filter((one) => one.kind === 'key' && one.caller === callerId)) {
      const read = await verified(jwt, identity, true);
      if ('wrong' in read) {
        wrong = read.wrong;
        continue;
      }
      if (read.claims.sub !== callerId || read.claims.iss !== callerId) return { wrong: 'iss and sub must both be the caller\u2019s ID.' };
      if (!(await s.store.useUp(hashOf(`${callerId} ${read.claims.jti ?? ''}`), OWN_KEPT_MS)))
        return { wrong: 'It was used before: each assertion is good once.' };
      return found(identity);
    }
    return { wrong };
  };
  return {
    async ofJwt(jwt, clientId) {
      const claims = jwt.length > MAX_ASSERTION ? null : claimsOf(jwt);
      if (!claims?.iss) return { wrong: 'It is not a JWT with an issuer.' };
      const all = await identities();
      if (all.some((one) => one.kind === 'key' && one.caller === claims.iss)) {
        if (clientId !== null && clientId !== claims.iss) return { wrong: 'client_id is another one than its issuer.' };
        return ofOwnKey(jwt, claims.iss, all);
      }
      const candidates = all.filter(
        (one) =>
          one.kind === 'workload' && one.rule.issuer === claims.iss && (clientId === null || one.caller === clientId) && matchesClaims(claims, one.rule.claims),
      );
      // The one that was registered first comes first: no later one can take its place. Two may differ by their audience.
      let wrong = 'No caller is registered for its issuer and claims.';
      for (const candidate of candidates.slice(0, MAX_CANDIDATES)) {
        const read = await verified(jwt, candidate, false);
        if (!('wrong' in read)) return found(candidate);
        wrong = read.wrong;
      }
      return { wrong };
    },
    async ofCertificate({ text: given, isVerified }, clientId) {
      let certificate: X509Certificate;
      try {
        const text = decodeURIComponent(given.trim());
        certificate = new X509Certificate(/^:.*:$/.test(text) ? Buffer.from(text.slice(1, -1), 'base64') : text);
      } catch {
        return { wrong: 'The certificate cannot be read.' };
      }
      const now = s.ports.clock.now();
      if (Date.parse(certificate.validTo) < now || Date.parse(certificate.validFrom) > now)
        return { wrong: 'The certificate has expired, or is not valid yet.' };
      const thumbprint = certificate.fingerprint256.replaceAll(':', '').toLowerCase();
      const subject = subjectOf(certificate);
      const match = (await identities()).filter(
        (one) =>
          one.kind === 'certificate' &&
          (clientId === null || one.caller === clientId) &&
          (one.rule.thumbprint === thumbprint || (isVerified && one.rule.subject !== null && one.rule.subject === subject)),
      );
      // This certificate and no other comes before a subject, and of those the one that was registered first.
      const first = match.find((one) => one.rule.thumbprint === thumbprint) ?? match[0];
      if (!first) return { wrong: 'No caller is registered for this certificate.' };
      return found(first);
    },
  };
}
