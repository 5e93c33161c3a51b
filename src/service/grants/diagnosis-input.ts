import type { SentAway } from '../../core/diagnosis/callback.ts';
import type { Asked } from '../../core/diagnosis/token-request.ts';
import type { ClientCredentials } from '../../core/oauth/client-authentication.ts';
import type { WireOutcome } from '../../core/oauth/wire.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { findProvider } from '../providers/index.ts';
import { methodOf, registeringOf } from '../records/index.ts';
import type { ClientRow } from '../store/clients.ts';
import type { GrantParts } from './parts.ts';

/** What a diagnosis may draw on beside the answer itself: gathered only where something went wrong. */
export interface KnownParties {
  client: ClientRow;
  definition: ProviderDefinition;
  placeholders: Record<string, string>;
  redirectUri: string;
  scopes: readonly string[];
}

export async function diagnosisInput(
  s: Pick<GrantParts, 'store' | 'ports'>,
  parties: KnownParties,
  request: { grantType: string; credentials: ClientCredentials | null; codeAgeMs?: number | null; codeLifeMs?: number | null },
  seen: WireOutcome | null,
): Promise<Asked> {
  const { client, definition } = parties;
  const registering = registeringOf(client);
  const whole = (await findProvider(s, definition.name)).definition;
  const record = request.credentials?.secretId ? await s.store.secrets.byId(request.credentials.secretId) : null;
  const date = seen?.kind === 'answer' ? Date.parse(seen.headers.date ?? '') : Number.NaN;
  const texts = [client.clientId ?? '', request.credentials?.secret?.reveal() ?? ''];
  return {
    definition,
    tokenEndpointTemplate: whole.server.token_endpoint,
    placeholders: parties.placeholders,
    grantType: request.grantType,
    method: request.credentials?.method ?? methodOf(client, definition),
    secret: record && {
      provedAt: record.provedAt,
      startsAt: record.startsAt,
      endsAt: record.endsAt,
      encodesDifferently: texts.some((text) => new URLSearchParams({ v: text }).toString() !== `v=${text}`),
    },
    redirectUri: parties.redirectUri,
    redirectUrisThere: registering.redirect_uris_there,
    scopes: parties.scopes,
    scopesRegistered: client.registeredScopes,
    clockAheadMs: Number.isNaN(date) ? null : date - s.ports.clock.now(),
    codeAgeMs: request.codeAgeMs ?? null,
    codeLifeMs: request.codeLifeMs ?? null,
    now: s.ports.clock.now(),
  };
}

export function sentAwayOf({ client, definition, redirectUri, scopes, placeholders }: KnownParties): SentAway {
  return {
    definition,
    redirectUri,
    redirectUrisThere: registeringOf(client).redirect_uris_there,
    scopes,
    scopesRegistered: client.registeredScopes,
    placeholders,
    approval: client.approval,
    reach: client.reach,
  };
}
