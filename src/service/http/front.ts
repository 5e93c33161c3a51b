import { createServer, type Server, ServerResponse } from 'node:http';
import { fileURLToPath } from 'node:url';
import type { Dispatcher } from 'undici';
import { Fault } from '../../core/fault.ts';
import type { Consents } from '../consent/consents.ts';
import { door, relayTokens } from '../door/door.ts';
import { toolTokens } from '../door/tool-tokens.ts';
import { callerCheck } from '../handout/caller-check.ts';
import { callerDirectory } from '../handout/caller-directory.ts';
import { tokenEndpoint } from '../handout/token-endpoint.ts';
import type { Usage } from '../handout/usage.ts';
import { whoCalls } from '../handout/who-calls.ts';
import { publicKeys } from '../registry/client-certificates.ts';
import type { Operators } from '../registry/operators.ts';
import type { Services } from '../registry/services.ts';
import { relayLane } from '../relay/relay.ts';
import type { Relayed } from '../relay/relayed.ts';
import type { Settings } from '../settings.ts';
import { app } from './app.ts';
import { bodyDeadline } from './body-deadline.ts';
import { handlers } from './handlers.ts';
import { sessions } from './sessions.ts';
import { addressReader, tokenLane } from './token-lane.ts';

/** Blind to the database for longer than this: not ready. */
const BLIND_MS = 1_500;

export interface FrontParts {
  services: Services;
  usage: Usage;
  relayed: Relayed;
  operators: Operators;
  consents: Consents;
  dispatcher: Dispatcher;
}

/** How long a service that stops still accepts, and says in `/readyz` and in each answer that it stops. */
const LAST_CALL_MS = 250;

/** Everything that answers HTTP, joined: the two fast lanes, then Express with all else. It does not listen yet. */
export function openFront(parts: FrontParts): { server: Server; drain(limitMs: number): Promise<void>; stop(): void } {
  const { services, usage } = parts;
  const { settings, store, ports, changes, quotas, apiTokens: tokens } = services;
  const { publicUrl } = settings;
  const known = callerDirectory({ store, changes, definitions: services.definitions, ports });
  const check = callerCheck(known);
  const asked = whoCalls(check);
  const tooBlind = () => changes.blindMs() > settings.blindLimitMs;
  const addressOf = addressReader(settings.trustedProxies);
  const bodies = bodyDeadline(settings.bodyMs);
  const atTheDoor = door(services, known);
  const tools = toolTokens(services);
  const lookAtTokens = tokenLane({
    tokenEndpoint: tokenEndpoint({ publicUrl, callers: known, check, tokens, tools, usage, tooBlind, ports }),
    hasTokenPath: known.hasTokenPath,
    addressOf,
    bodies,
    log: ports.log,
  });
  const relayCalls = relayLane({
    publicUrl,
    callers: known,
    whoCalls: asked,
    relayTokens: relayTokens(services),
    tokens,
    quotas,
    usage,
    relayed: parts.relayed,
    dispatcher: parts.dispatcher,
    tooBlind,
    addressOf,
    waitMs: settings.relayWaitMs,
    mostMs: settings.relayMostMs,
    privateHosts: settings.privateHosts,
    ports,
  });
  let draining = false;
  const everythingElse = app({
    publicUrl,
    version: services.version,
    trustedProxies: settings.trustedProxies,
    bodies,
    log: ports.log,
    handlers: handlers(services, parts.operators, parts.consents, atTheDoor),
    sessions: sessions(parts.operators, publicUrl),
    consents: parts.consents,
    door: atTheDoor,
    userInfo: tools.userInfo,
    whoCalls: asked,
    publicKeys: (provider, client) => publicKeys(services, provider, client),
    notReady: () => (draining ? 'The service is stopping.' : changes.blindMs() > BLIND_MS ? 'The database has not answered lately.' : null),
    consoleFolder: fileURLToPath(new URL('../../../dist/console', import.meta.url)),
  });
  let proxySeen = false;
  /** While the service stops, each answer says `Connection: close`, also to requests that came before: nothing more is sent on a socket about to close. */
  class Answer extends ServerResponse {
    override writeHead(...given: unknown[]): this {
      if (draining) this.shouldKeepAlive = false;
      return (super.writeHead as (...all: unknown[]) => this).apply(this, given);
    }
  }
  const server = createServer({ ServerResponse: Answer }, (request, response) => {
    if (settings.trustedProxies === 0 && !proxySeen && (request.headers['x-forwarded-for'] ?? request.headers.forwarded) !== undefined) {
      proxySeen = true;
      ports.log.warn('requests carry forwarding headers, and RUSTY_KETTLE_TRUSTED_PROXIES is 0: behind a proxy, everybody shares its address');
    }
    void (lookAtTokens(request, response) || relayCalls(request, response) || everythingElse(request, response));
  });
  // What is relayed may be long on its way; whatever else has a body is watched.
  server.requestTimeout = settings.relayMostMs;
  // Node's 5 s are shorter than what proxies and client pools keep: a request sent just as we close a socket would be lost to the caller.
  server.keepAliveTimeout = 75_000;
  return {
    server,
    /** Takes no new connections; what runs is finished, idle sockets are closed, and busy ones get `Connection: close`. */
    async drain(limitMs) {
      draining = true;
      // What the kernel has taken for us already would be reset with the listening socket: it is accepted first.
      await new Promise((resolve) => setTimeout(() => setImmediate(resolve), LAST_CALL_MS));
      const closed = new Promise<void>((resolve) => server.close(() => resolve()));
      const timer = setTimeout(() => server.closeAllConnections(), limitMs);
      // A socket that became idle just now may carry a request already: closed after a moment, when the answer's `close` has been read.
      const idle = setInterval(() => server.closeIdleConnections(), 200);
      await closed;
      clearTimeout(timer);
      clearInterval(idle);
    },
    stop: bodies.stop,
  };
}

/** @throws {Fault} SETTING_INVALID: the port is in use, or not ours to take. */
export const listen = (server: Server, settings: Pick<Settings, 'host' | 'port'>): Promise<void> =>
  new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) =>
      reject(
        new Fault('SETTING_INVALID', {
          detail: `Cannot listen on ${settings.host}:${settings.port} (${error.code ?? 'unknown'}).`,
          remedy: 'Stop what uses the port, or choose another with RUSTY_KETTLE_PORT.',
        }),
      ),
    );
    server.listen(settings.port, settings.host, () => resolve());
  });
