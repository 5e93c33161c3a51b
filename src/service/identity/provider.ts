import type { JSONWebKeySet } from 'jose';
import { Fault } from '../../core/fault.ts';
import type { Send } from '../../core/oauth/wire.ts';
import { IdentityMetadata, metadataUrl } from '../../core/sign-in/oidc.ts';
import { type Published, published } from '../outgoing/index.ts';
import type { Ports } from '../ports.ts';

const LIMITS = { deadlineMs: 10_000, limitBytes: 300_000, keptMs: 3_600_000, places: 20, keys: 200 };

/** What the provider publishes, kept for an hour. */
export interface ProviderDocuments {
  /** @throws {Fault} PROVIDER_UNREACHABLE, METADATA_WRONG */
  metadata(issuer: string): Promise<IdentityMetadata>;
  /** @throws {Fault} PROVIDER_UNREACHABLE */
  keys(metadata: IdentityMetadata, again?: boolean): Promise<JSONWebKeySet>;
  json: Published['json'];
}

export function providerDocuments({ send, ports }: { send: Send; ports: Pick<Ports, 'clock'> }): ProviderDocuments {
  const { json, kept, keys } = published({ send, ports, limits: LIMITS });
  const unreachable = (what: string) =>
    new Fault('PROVIDER_UNREACHABLE', {
      detail: `The identity provider did not send ${what}.`,
      remedy: 'Try again later. Local administrators sign in with their password meanwhile.',
    });
  return {
    json,
    async metadata(issuer) {
      const found = await kept(issuer, false, async () => IdentityMetadata.safeParse(await json(metadataUrl(issuer))).data ?? null);
      if (!found) throw unreachable('its metadata');
      // Discovery §4.3: the issuer must be the one that was asked for, to the letter.
      if (found.issuer !== issuer) throw new Fault('METADATA_WRONG', { detail: `It calls itself ${found.issuer}, not ${issuer}.` });
      return found;
    },
    async keys(metadata, again = false) {
      const found = await kept(metadata.jwks_uri, again, () => keys(metadata.jwks_uri));
      if (!found) throw unreachable('its keys');
      return found;
    },
  };
}
