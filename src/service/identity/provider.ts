import type { JSONWebKeySet } from 'jose';
import { LRUCache } from 'lru-cache';
import { z } from 'zod';
import { Fault } from '../../core/fault.ts';
import type { Send } from '../../core/oauth/wire.ts';
import { IdentityMetadata, metadataUrl } from '../../core/sign-in/oidc.ts';
import type { Ports } from '../ports.ts';

const DEADLINE_MS = 10_000;
const LIMIT = 300_000;
const KEPT_MS = 3_600_000;
/** Keys are fetched again for a token with an unknown one, but not for everyone who asks. */
const AGAIN_MS = 30_000;
const Keys = z.object({ keys: z.array(z.looseObject({ kty: z.string() })).max(200) });

/** What the provider publishes, kept for an hour; what was known stays while it does not answer. */
export interface ProviderDocuments {
  /** @throws {Fault} PROVIDER_UNREACHABLE, METADATA_WRONG */
  metadata(issuer: string): Promise<IdentityMetadata>;
  keys(metadata: IdentityMetadata, again?: boolean): Promise<JSONWebKeySet>;
  json(url: string, headers?: Record<string, string>): Promise<unknown>;
}

export function providerDocuments({ send, ports }: { send: Send; ports: Pick<Ports, 'clock'> }): ProviderDocuments {
  const kept = new LRUCache<string, { value: object; at: number }>({ max: 20 });
  const json = async (url: string, headers: Record<string, string> = {}): Promise<unknown> => {
    const answer = await send({ method: 'GET', url, headers: { accept: 'application/json', ...headers }, deadlineMs: DEADLINE_MS, limitBytes: LIMIT });
    if (answer.kind !== 'answer' || answer.status !== 200 || answer.cut) return null;
    try {
      return JSON.parse(answer.body);
    } catch {
      return null;
    }
  };
  const forced = new LRUCache<string, number>({ max: 20 });
  const known = async <T extends object>(key: string, again: boolean, read: () => Promise<T | null>): Promise<T | null> => {
    const found = kept.get(key);
    const now = ports.clock.now();
    const isFresh = again ? now - (forced.get(key) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS : found !== undefined && now - found.at < KEPT_MS;
    if (found && isFresh) return found.value as T;
    if (again) forced.set(key, now);
    const fresh = await read();
    if (fresh === null) return found ? (found.value as T) : null;
    kept.set(key, { value: fresh, at: ports.clock.now() });
    return fresh;
  };
  const unreachable = (what: string) =>
    new Fault('PROVIDER_UNREACHABLE', {
      detail: `The identity provider did not send ${what}.`,
      remedy: 'Try again later. Local administrators sign in with their password meanwhile.',
    });
  return {
    json,
    async metadata(issuer) {
      const found = await known(issuer, false, async () => {
        const read = IdentityMetadata.safeParse(await json(metadataUrl(issuer)));
        return read.success ? read.data : null;
      });
      if (!found) throw unreachable('its metadata');
      // Discovery §4.3: the issuer must be the one that was asked for, to the letter.
      if (found.issuer !== issuer) throw new Fault('METADATA_WRONG', { detail: `It calls itself ${found.issuer}, not ${issuer}.` });
      return found;
    },
    async keys(metadata, again = false) {
      const found = await known(metadata.jwks_uri, again, async () => {
        const read = Keys.safeParse(await json(metadata.jwks_uri));
        return read.success ? (read.data as JSONWebKeySet) : null;
      });
      if (!found) throw unreachable('its keys');
      return found;
    },
  };
}
