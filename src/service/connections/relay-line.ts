import { type ApiCall, pathAndQuery } from '../../core/calls/call.ts';
import { curlLine } from '../../core/calls/curl.ts';
import type { Api } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { apiAddress } from '../grants/index.ts';
import type { ConnectionParts } from './parts.ts';

/** Where a connection's calls pass the relay. */
export const relayBase = (s: Pick<ConnectionParts, 'settings'>, name: string): string => `${s.settings.publicUrl}/relay/${name}`;

/** The API that a call belongs to, and the call below its base URL. @throws {Fault} HOST_NOT_LISTED */
export function belowBase(definition: ProviderDefinition, call: ApiCall): { api: Api | undefined; call: ApiCall } {
  if (call.path.startsWith('/')) return { api: definition.apis[0], call };
  const { api, url } = apiAddress(definition, pathAndQuery(call));
  const base = new URL(`${api.base_url.replace(/\/$/, '')}/`).href;
  return { api, call: { ...call, path: `/${url.slice(base.length)}`, query: [] } };
}

/** A call as a curl line through the relay: `NAME~API` where it is not the first API's. @throws {Fault} HOST_NOT_LISTED */
export function relayLine(s: Pick<ConnectionParts, 'settings'>, name: string, definition: ProviderDefinition, call: ApiCall): string {
  const placed = belowBase(definition, call);
  const base = placed.api === definition.apis[0] ? relayBase(s, name) : `${relayBase(s, name)}~${placed.api?.name}`;
  return curlLine(placed.call, base, placed.api?.headers);
}
