import { createServer } from 'node:http';
import pTimeout from 'p-timeout';
import type { ApiClient } from '../api/client.ts';
import { MAX_WAIT_MS, nothingCame } from './consent-waiting.ts';
import { EXIT, Outcome } from './exit.ts';

export interface Listener {
  /** Null: the registered one. */
  port: number | null;
  /** The whole address that the browser brought, within the time that a consent is good for. @throws {Outcome} */
  came(): Promise<string>;
  close(): void;
}

/** Waits on this machine for the redirect of a desktop client (RFC 8252 §7.3): at its registered port, else at any free one. @throws {Outcome} */
export async function listen(call: ApiClient, client: { provider: string; client: string }): Promise<Listener> {
  const { redirect_uri: registered } = await call('showClient', { params: client });
  const { pathname, port } = new URL(registered);
  let bring: (address: string) => void = () => undefined;
  const came = new Promise<string>((resolve) => {
    bring = resolve;
  });
  const server = createServer((request, response) => {
    const url = new URL(request.url ?? '/', registered);
    const ours = request.method === 'GET' && url.pathname === pathname && (url.searchParams.has('code') || url.searchParams.has('error'));
    response.writeHead(ours ? 200 : 404, {
      'content-type': 'text/html; charset=utf-8',
      'cache-control': 'no-store',
      'referrer-policy': 'no-referrer',
      'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'",
    });
    response.end(ours ? PAGE : 'No consent is expected at this address.');
    if (ours) bring(url.href);
  });
  const at = (wanted: number) =>
    new Promise<boolean>((resolve) => {
      server.once('error', () => resolve(false));
      server.listen(wanted, '127.0.0.1', () => resolve(true));
    });
  const close = () => {
    server.close();
    server.closeAllConnections();
  };
  const inTime = (): Promise<string> => pTimeout(came, { milliseconds: MAX_WAIT_MS, message: nothingCame() });
  if (await at(Number(port))) return { port: null, came: inTime, close };
  server.removeAllListeners('error');
  if (!(await at(0))) throw new Outcome(EXIT.failed, 'No port on this machine is free.\nWhat to do: open it with --way pasted.');
  const address = server.address();
  return { port: typeof address === 'object' && address ? address.port : null, came: inTime, close };
}

const PAGE =
  '<!doctype html><html lang="en"><meta charset="utf-8"><title>Rusty Kettle</title><body style="font:17px/1.5 system-ui;max-width:36rem;margin:4rem auto;padding:0 1rem"><h1 style="font-size:1.3rem">The answer has arrived</h1><p>Continue where you started <code>rk</code>: it shows the outcome. You may close this page.</p></body></html>';
