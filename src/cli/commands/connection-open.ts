import { createServer, type Server } from 'node:http';
import { setTimeout as sleep } from 'node:timers/promises';
import type { Command } from 'commander';
import type { ApiClient } from '../../api/client.ts';
import type { ConsentOutcome, OpenedConsent } from '../../api/connections.ts';
import { globals, signedIn } from '../connect.ts';
import { EXIT, Outcome } from '../exit.ts';
import { printOne } from '../print.ts';
import { readPairs } from './client.ts';
import { nothingCame, showOutcome, untilFinished, WAIT_MOST_MS } from './consent-outcome.ts';

const tell = (text: string): void => void process.stderr.write(`${text}\n`);

type Way = OpenedConsent['way'];
interface OpenOptions {
  wait: boolean;
  way?: Way;
  client?: string;
  placeholder?: string[];
  prepare?: boolean;
  endOldest?: boolean;
}

/** `rk connection open`: every way in which an agreement can travel back, without a browser on this machine where none is needed. */
export function connectionOpen(noun: Command): void {
  noun
    .command('open')
    .description('start a consent: prints where to go and waits for the outcome; also in place of an earlier one')
    .argument('<name>')
    .option('--way <way>', 'redirect, loopback (rk listens on this machine), pasted, device, printed; left out: the usual one')
    .option('--client <name>', 'another client of the same provider: the connection moves there once it is proved')
    .option('--placeholder <name=value...>', 'with another client: values asked for at the connection')
    .option('--prepare', 'keep the new tokens beside those in use, for a stated switch')
    .option('--end-oldest', 'if the provider limits the number of refresh tokens: continue although the oldest one expires')
    .option('--no-wait', 'print where to go and leave')
    .action(async (name: string, options: OpenOptions, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { ways, provider, client } = await call('showConnection', { params: { connection: name } });
      const way = options.way ?? ways[0];
      const listener = way === 'loopback' && options.wait ? await listen(call, provider, options.client ?? client) : null;
      try {
        const body = {
          ...(options.way && { way: options.way }),
          ...(options.client && { client: options.client }),
          ...(options.placeholder && { placeholders: readPairs(options.placeholder) }),
          ...(options.prepare && { prepare: true }),
          ...(options.endOldest && { end_oldest: true }),
          ...(listener?.port && { port: listener.port }),
        };
        const opened = await openOrAsk(call, name, body);
        if (opened === null) return;
        if (!options.wait) {
          // A device's code stands in the consent: without it there is nothing to enter at the provider.
          const { device } = opened.way === 'device' ? await call('showConsent', { params: { consent: opened.id } }) : { device: null };
          return printOne(all, device ? { ...opened, device } : opened, whereToGo(opened, device));
        }
        for (const warning of opened.warnings) tell(`Note: ${warning}`);
        if (!opened.by_itself) tell(opened.ready.says);
        await bringBack(call, opened, listener);
        await showOutcome(all, await untilFinished(() => call('showConsent', { params: { consent: opened.id } })));
      } finally {
        listener?.server.close();
        listener?.server.closeAllConnections();
      }
    });
}

interface Body {
  end_oldest?: boolean;
}

/** Opens it; where another connection would end, asks first. Null: it was not wanted. */
async function openOrAsk(call: ApiClient, name: string, body: Body): Promise<OpenedConsent | null> {
  try {
    return await call('openConnection', { params: { connection: name }, body });
  } catch (error) {
    const { problem } = error as { problem?: { code: string; detail?: string } };
    if (problem?.code !== 'WOULD_END' || !process.stdin.isTTY) throw error;
    const { confirmed } = await import('../ask.ts');
    if (!(await confirmed(`${problem.detail ?? ''} Continue?`, false))) return null;
    return call('openConnection', { params: { connection: name }, body: { ...body, end_oldest: true } });
  }
}

const whereToGo = (opened: OpenedConsent, device: ConsentOutcome['device']): [string, string | null][] => [
  [
    opened.by_itself ? 'How it went' : device ? 'Open on any device' : 'Open in a browser',
    device ? device.page : (opened.authorization_url ?? opened.start_url),
  ],
  ['Code', device?.user_code ?? null],
  ['Or open', device?.page_with_code ?? null],
  ['Way', opened.way.replaceAll('_', ' ')],
  ['Ready', opened.ready.says],
  ['Note', opened.warnings.join('\n')],
  ['Good until', opened.expires_at],
];

/** What a person has to do, and what comes back by their hands or by a listener of ours. */
async function bringBack(call: ApiClient, opened: OpenedConsent, listener: Listener | null): Promise<void> {
  const params = { consent: opened.id };
  const asked = await call('showConsent', { params });
  const { secret } = await import('../ask.ts');
  switch (opened.way) {
    case 'by_itself':
      return tell('The client asks for itself\u2026');
    case 'printed':
      if (!asked.wants_code) return;
      tell(
        `Now print the code: \u201c${asked.wants_code.called}\u201d${asked.wants_code.page ? ` at ${asked.wants_code.page}` : ''}. It lives ${asked.wants_code.seconds} seconds.`,
      );
      await call('giveCode', { params, body: { code: await secret('The code') } });
      return;
    case 'device':
      if (asked.device)
        tell(
          `On any device, open ${asked.device.page} and enter the code ${asked.device.user_code}\n(or open ${asked.device.page_with_code ?? asked.device.page}). It is good until ${asked.expires_at}. Waiting\u2026`,
        );
      return;
    case 'loopback':
      tell(`Open in a browser on this machine: ${opened.authorization_url}\nListening at ${opened.redirect_uri} for the answer\u2026`);
      await call('answerConsent', { params, body: { pasted: await within(listener?.came ?? Promise.reject(new Error('nobody listens'))) } });
      return;
    case 'pasted':
      tell(
        `Open in a browser anywhere: ${opened.authorization_url}\nAt its end the browser shows an address that begins with ${opened.redirect_uri}; it may not open. Paste the whole address here.`,
      );
      await call('answerConsent', { params, body: { pasted: await secret('The address') } });
      return;
    case 'redirect':
      return tell(`Open in a browser: ${opened.start_url}\nWaiting for the consent\u2026`);
    default:
      opened.way satisfies never;
  }
}

interface Listener {
  server: Server;
  /** Null: the registered one. */
  port: number | null;
  /** The whole address that the browser brought. */
  came: Promise<string>;
}

/** Waits on this machine for the redirect of a desktop client (RFC 8252 §7.3): at its registered port, else at any free one. */
async function listen(call: ApiClient, provider: string, client: string): Promise<Listener> {
  const { redirect_uri: registered } = await call('showClient', { params: { provider, client } });
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
    response.end(ours ? PAGE : 'Nothing is waited for at this address.');
    if (ours) bring(url.href);
  });
  const at = (wanted: number) =>
    new Promise<boolean>((resolve) => {
      server.once('error', () => resolve(false));
      server.listen(wanted, '127.0.0.1', () => resolve(true));
    });
  if (await at(Number(port))) return { server, port: null, came };
  server.removeAllListeners('error');
  if (!(await at(0))) throw new Outcome(EXIT.failed, 'No port on this machine could be listened at.\nWhat to do: open it with --way pasted.');
  const address = server.address();
  return { server, port: typeof address === 'object' && address ? address.port : null, came };
}

const PAGE =
  '<!doctype html><html lang="en"><meta charset="utf-8"><title>Rusty Kettle</title><body style="font:17px/1.5 system-ui;max-width:36rem;margin:4rem auto;padding:0 1rem"><h1 style="font-size:1.3rem">The answer has arrived</h1><p>Go on where you started <code>rk</code>: it says how it went. You may close this page.</p></body></html>';

const within = (came: Promise<string>): Promise<string> =>
  Promise.race([came, sleep(WAIT_MOST_MS, undefined, { ref: false }).then(() => Promise.reject(nothingCame()))]);
