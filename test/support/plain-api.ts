import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { ApiClient } from '../../src/api/client.ts';

export interface PlainApi {
  server: Server;
  port: number;
}

/** An API that answers as it is told to: with JSON, or by hand. */
export async function startApi(answer: (url: URL, response: ServerResponse, request: IncomingMessage) => object | undefined): Promise<PlainApi> {
  const server = createServer((request, response) => {
    const body = answer(new URL(request.url ?? '/', 'http://127.0.0.1'), response, request);
    if (body !== undefined) response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(body));
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { server, port: (server.address() as AddressInfo).port };
}

/** A provider whose API takes a static key, with one client and one connection of the same name. */
export async function plainProvider(call: ApiClient, name: string, port: number): Promise<void> {
  const document = `name: ${name}
title: ${name}
server:
  token_endpoint: http://127.0.0.1:${port}/token
  authorization_endpoint: http://127.0.0.1:${port}/authorize
  grant_types_supported: [authorization_code, refresh_token]
  response_types_supported: [code]
  token_endpoint_auth_methods_supported: [client_secret_post]
scopes: [{ name: read, says: Read, power: read }]
apis:
  - name: things
    title: Things
    base_url: http://127.0.0.1:${port}/api
    static_key: { header: x-key }
`;
  await call('addProvider', { body: { document } });
  await call('addClient', { body: { provider: name, name: 'office' } });
  await call('addConnection', { body: { name, provider: name, client: 'office', scopes: ['read'] } });
  await call('setKey', { params: { connection: name }, body: { key: 'a-static-key-of-some-length' } });
}
