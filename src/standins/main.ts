import { createServer } from 'node:http';
import express, { type Request } from 'express';
import { z } from 'zod';
import { Fault } from '../core/fault.ts';
import type { ProviderDefinition } from '../core/provider/definition.ts';
import { composeDefinition, everyChoice } from '../core/provider/placeholders.ts';
import { readDefinition } from '../core/provider/read-definition.ts';
import { apiServer } from './api-server.ts';
import { authorizationServer, type Lives, type RefreshUse } from './authorization-server.ts';
import { FaultOrder, faults } from './faults.ts';
import { localiseDefinition } from './localise.ts';
import { type StandinStore, standinStore } from './state.ts';

export interface StandinOptions {
  /** The text of a definition; its addresses are moved to this port on loopback. */
  definitionText: string;
  /** 0: a free one. */
  port: number;
  stateFile?: string | undefined;
  accessSeconds?: number | undefined;
  accessSecondsMost?: number | undefined;
  watch?: ((use: RefreshUse) => void) | undefined;
}

export interface RunningStandin {
  port: number;
  /** The definition with loopback addresses, as text: what is loaded into the service. */
  definitionText: string;
  /** What it remembers, for tests that look for what was issued. */
  store: StandinStore;
  stop(): Promise<void>;
}

const LivesOrder = z.strictObject({ access_seconds: z.number().int().min(1).max(86_400) });
const WithdrawOrder = z.strictObject({ account: z.string().optional() });
const SkewOrder = z.strictObject({ skew_ms: z.number().int().min(-86_400_000).max(86_400_000) });

const hostsOf = ({ server, apis }: ProviderDefinition): Set<string> =>
  new Set([server.authorization_endpoint, server.token_endpoint, ...apis.map((api) => api.base_url)].map((address) => new URL(address).hostname));

/** Starts a simulated provider on loopback. Under `/standin/` it takes orders: faults, lives, withdrawals, and it tells its counters. */
export async function startStandin(options: StandinOptions): Promise<RunningStandin> {
  const app = express();
  const server = createServer(app);
  await new Promise<void>((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) =>
      reject(
        new Fault('SETTING_INVALID', {
          detail: `Cannot listen on port ${options.port} (${error.code ?? 'unknown'}).`,
          remedy: 'Stop what uses it, or choose another with --port.',
        }),
      ),
    );
    server.listen(options.port, '127.0.0.1', () => resolve());
  });
  const address = server.address();
  const port = address && typeof address === 'object' ? address.port : options.port;
  const definitionText = localiseDefinition(options.definitionText, port);
  const definition = readDefinition(definitionText);

  let skewMs = 0;
  const now = () => Date.now() + skewMs;
  const store = standinStore(options.stateFile ?? null, now);
  const lives: Lives = { accessSeconds: options.accessSeconds ?? 3600, ...(options.accessSecondsMost ? { accessSecondsMost: options.accessSecondsMost } : {}) };
  const counters: Record<string, number> = {};
  const count = (what: string) => {
    counters[what] = (counters[what] ?? 0) + 1;
  };
  const wrong = faults();
  // One set of routes for each place of the provider, chosen by the host of the request; the sample programs come by 127.0.0.1.
  const places = everyChoice(definition).map((values) => {
    const here = composeDefinition(definition, values);
    const parts = { definition: here, realm: Object.values(values).join('.'), store, faults: wrong, lives, now, count, watch: options.watch };
    return { hosts: hostsOf(here), serve: express.Router().use(authorizationServer(parts)).use(apiServer(parts)), server: here.server };
  });
  const placeOf = (request: Request) => places.find((place) => place.hosts.has(request.hostname)) ?? (places[0] as (typeof places)[number]);

  app.disable('x-powered-by');
  app.set('query parser', 'simple');
  app.use((request, response, next) => placeOf(request).serve(request, response, next));
  app.get(
    '/.well-known/openid-configuration',
    (request, response) => void response.json({ ...placeOf(request).server, scopes_supported: definition.scopes.map((scope) => scope.name) }),
  );
  app.get('/definition.yaml', (_request, response) => void response.type('text/yaml').send(definitionText));
  app.get('/', (_request, response) => response.redirect('/clients'));

  const control = express.Router().use(express.json());
  control.post('/faults', (request, response) => void response.json(wrong.order(FaultOrder.parse(request.body)) ?? { ordered: true }));
  control.delete('/faults', (_request, response) => void response.json(wrong.clear() ?? { cleared: true }));
  control.post('/lives', (request, response) => {
    lives.accessSeconds = LivesOrder.parse(request.body).access_seconds;
    response.json(lives);
  });
  control.post('/skew', (request, response) => {
    skewMs = SkewOrder.parse(request.body).skew_ms;
    response.json({ skew_ms: skewMs });
  });
  control.post('/withdraw', (request, response) => {
    const { account } = WithdrawOrder.parse(request.body ?? {});
    const hit = Object.values(store.state.grants).filter((grant) => !grant.withdrawn && (account === undefined || grant.sub === account));
    for (const grant of hit) grant.withdrawn = true;
    store.touch();
    response.json({ withdrawn: hit.length });
  });
  control.get(
    '/counters',
    (_request, response) =>
      void response.json({
        counters,
        refreshes: Object.values(store.state.grants).map((grant) => ({ account: grant.sub, refreshes: grant.refreshes, withdrawn: grant.withdrawn })),
      }),
  );
  app.use('/standin', control);
  app.use((_request, response) => void response.status(404).json({ error: 'not_found', message: 'The stand-in has no such address.' }));
  app.use(
    ((error, _request, response, _next) =>
      void response
        .status(error instanceof z.ZodError ? 400 : 500)
        .json({ error: error instanceof z.ZodError ? z.prettifyError(error) : 'stand-in failure' })) as express.ErrorRequestHandler,
  );

  return {
    port,
    definitionText,
    store,
    stop: () =>
      new Promise((resolve) => {
        server.close(() => {
          store.flush();
          resolve();
        });
        server.closeAllConnections();
      }),
  };
}
