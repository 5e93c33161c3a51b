import type { z } from 'zod';
import type { EndpointVerdict } from '../../api/providers.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import { endpointRequests, judgeEndpoint } from '../../core/provider/endpoint-check.ts';
import type { Ports } from '../ports.ts';

type Verdict = z.output<typeof EndpointVerdict>;

/** Asks the endpoints without any secret. Where a placeholder is still open, it is said and not guessed. */
export async function askEndpoints(ports: Pick<Ports, 'send'>, definition: Pick<ProviderDefinition, 'server'>): Promise<Verdict[]> {
  const endpoints = ['authorization_endpoint', 'token_endpoint'] as const;
  const asked = endpoints.map(async (endpoint): Promise<Verdict[]> => {
    const address = definition.server[endpoint];
    if (address === undefined) return [];
    if (address.includes('{')) return [{ endpoint, address, good: false, says: 'It holds a placeholder: it can be asked once a client has its value.' }];
    return [judgeEndpoint(endpoint, address, await ports.send(endpointRequests[endpoint](address)))];
  });
  return (await Promise.all(asked)).flat();
}
