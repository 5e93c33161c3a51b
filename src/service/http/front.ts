import { createServer, type RequestListener, type Server, ServerResponse } from 'node:http';
import type { Server as SecureServer } from 'node:https';
import { fileURLToPath } from 'node:url';
import type { Dispatcher } from 'undici';
import { Fault } from '../../core/fault.ts';
import { bodyDeadline } from '../body-deadline.ts';
import { publicKeys } from '../clients/index.ts';
import type { Consents } from '../consent/index.ts';
import type { Fence } from '../fence/index.ts';
import { calendarJson, calendarText } from '../forecast/index.ts';
import type { IdentitySignIn } from '../identity/index.ts';
import type { Operators } from '../operators/index.ts';
import { supervisorsSocket } from '../processes/index.ts';
import { type Relayed, relayLane } from '../relay/index.ts';
import type { Settings } from '../settings.ts';
import { addressReader, tokenEndpoint, tokenLane } from '../token-endpoint/index.ts';
import { assertions, callerCheck, callerDirectory, whoCalls } from '../tokens/index.ts';
import { relayTokens, signInRequests, toolTokens } from '../tool-sign-ins/index.ts';
import type { Usage } from '../usage/index.ts';
import { app } from './app.ts';
import { backupDownload, latestResult, runFile } from './data.ts';
import { arrivalsAt, closeGently } from './draining.ts';
import { handlers } from './handlers.ts';
import { liveEvents } from './live.ts';
import { servedMetrics } from './metrics.ts';
import type { HttpParts } from './parts.ts';
import { visitsWith } from './person-routes.ts';
import { sessions } from './sessions.ts';
import { certificateReader, openServer } from './tls.ts';

/** Blind to the database for longer than this: not ready. */
const BLIND_MS = 1_500;

export interface FrontParts {
  /** What the rooms depend on, to which requests go. */
  rooms: HttpParts;
  usage: Usage;
  relayed: Relayed;
  operators: Operators;
  fence: Fence;
  identity: IdentitySignIn;
  consents: Consents;
  dispatcher: Dispatcher;
}

/** Everything that answers HTTP, joined: the two fast lanes, then Express with all else. It does not listen yet. */
export function openFront(parts: FrontParts): { server: Server | SecureServer; drain(limitMs: number): Promise<void>; stopping(): void; stop(): void } {
  const { rooms, usage } = parts;
  const { settings, store, ports, changes, quotas, apiTokens: tokens } = rooms;
  const { publicUrl } = settings;
  const known = callerDirectory({ store, changes, definitions: rooms.definitions, ports });
  const check = callerCheck(known, ports);
  const proofs = assertions({ store: store.callerIdentities, callers: known, changes, send: ports.send, publicUrl, ports });
  const asked = whoCalls(check, proofs);
  const tooBlind = () => changes.blindMs() > settings.blindLimitMs;
  const addressOf = addressReader(settings.trustedProxies);
  const bodies = bodyDeadline(settings.bodyMs);
  const requests = signInRequests(rooms, known);
  const tools = toolTokens(rooms);
  const lookAtTokens = tokenLane({
    tokenEndpoint: tokenEndpoint({ publicUrl, callers: known, check, assertions: proofs, tokens, tools, usage, tooBlind, ports }),
    hasTokenPath: known.hasTokenPath,
    hasOrigin: known.hasOrigin,
    addressOf,
    certificateOf: certificateReader(settings),
    bodies,
    log: ports.log,
  });
  const relayCalls = relayLane({
    publicUrl,
    callers: known,
    whoCalls: asked,
    relayTokens: relayTokens(rooms),
    tokens,
    quotas,
    usage,
    relayed: parts.relayed,
    sightings: rooms.sightings,
    dispatcher: parts.dispatcher,
    tooBlind,
    addressOf,
    waitMs: settings.relayWaitMs,
    mostMs: settings.relayMostMs,
    privateHosts: settings.privateHosts,
    ports,
  });
  const who = sessions(parts.operators, publicUrl);
  const live = liveEvents({ stamps: store.stamps, sessions: who, ports });
  let draining = false;
  const everythingElse = app({
    publicUrl,
    version: rooms.version,
    takesCertificates: settings.certificateHeader !== null || settings.tls?.clientCertificates === true,
    trustedProxies: settings.trustedProxies,
    bodies,
    log: ports.log,
    operators: parts.operators,
    store,
    handlers: handlers(rooms, parts, parts.consents, requests),
    sessions: who,
    live,
    data: {
      latest: latestResult(rooms, { sessions: who, whoCalls: asked }),
      run: runFile(rooms, who),
      backup: backupDownload(rooms, { sessions: who, operators: parts.operators }),
    },
    fence: parts.fence,
    identity: parts.identity,
    consents: parts.consents,
    calendar: { text: (token) => calendarText(rooms, token), json: (token) => calendarJson(rooms, token) },
    visits: visitsWith({ ...rooms, consents: parts.consents }),
    signInRequests: requests,
    userInfo: tools.userInfo,
    whoCalls: asked,
    publicKeys: (provider, client) => publicKeys(rooms, provider, client),
    notReady: () => (draining ? 'The service is stopping.' : changes.blindMs() > BLIND_MS ? 'The database has not answered lately.' : null),
    metrics: servedMetrics({ ...rooms, usage }, settings.metricsToken),
    consoleFolder: fileURLToPath(new URL('../../../dist/console', import.meta.url)),
  });
  let proxySeen = false;
  /** While the service stops, each answer shows `Connection: close`, also to requests that came before: nothing more is sent on a socket about to close. */
  class Answer extends ServerResponse {
    override writeHead(...given: unknown[]): this {
      if (draining) this.shouldKeepAlive = false;
      return (super.writeHead as (...all: unknown[]) => this).apply(this, given);
    }
  }
  const listener: RequestListener = (request, response) => {
    // Which of two a program behind us reads nobody knows (RFC 9112 \u00a73.2).
    if (hasTwoHosts(request.rawHeaders)) return void response.writeHead(400, { connection: 'close' }).end();
    if (settings.trustedProxies === 0 && !proxySeen && (request.headers['x-forwarded-for'] ?? request.headers.forwarded) !== undefined) {
      proxySeen = true;
      ports.log.warn(
        { event: 'http.proxy_not_trusted' },
        'requests carry forwarding headers, and RUSTY_KETTLE_TRUSTED_PROXIES is 0: behind a proxy, everybody shares its address',
      );
    }
    arrivals.asked(request.socket);
    void (lookAtTokens(request, response) || relayCalls(request, response) || everythingElse(request, response));
  };
  const { server, stop: stopServer } = openServer(settings.tls, { ServerResponse: Answer as never }, { listener, log: ports.log });
  const arrivals = arrivalsAt(server, settings.tls !== null);
  // What is relayed may be long on its way; whatever else has a body is watched.
  server.requestTimeout = settings.relayMostMs;
  // Node's 5 s are shorter than what proxies and client pools keep: a request sent just as we close a socket would be lost to the caller.
  server.keepAliveTimeout = 75_000;
  return {
    server,
    stopping: () => {
      draining = true;
    },
    /** Reports that it stops, goes on accepting until nobody comes any more, then finishes what came. */
    async drain(limitMs) {
      draining = true;
      live.stop();
      await closeGently(server, arrivals, limitMs, supervisorsSocket());
    },
    stop() {
      bodies.stop();
      stopServer();
    },
  };
}

function hasTwoHosts(raw: readonly string[]): boolean {
  let hosts = 0;
  for (let at = 0; at < raw.length; at += 2) {
    const name = raw[at] as string;
    if (name.length === 4 && name.toLowerCase() === 'host') hosts += 1;
  }
  return hosts > 1;
}

/** @throws {Fault} SETTING_INVALID: the port is in use, or not ours to take. */
export const listen = (server: Server | SecureServer, settings: Pick<Settings, 'host' | 'port'>): Promise<void> =>
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

/** Before anything is started: a typing error is reported at once. @throws {Fault} SETTING_INVALID */
export async function refuseUsedPort(settings: Pick<Settings, 'host' | 'port'>): Promise<void> {
  const attempt = createServer();
  await listen(attempt, settings);
  await new Promise((resolve) => attempt.close(resolve));
}
