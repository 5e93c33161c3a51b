import { createServer } from 'node:http';
import express, { type Request } from 'express';
import { z } from 'zod';
import { Fault } from '../core/fault.ts';
import { type ProviderDefinition, withVariant } from '../core/provider/definition.ts';
import { composeDefinition, everyChoice } from '../core/provider/placeholders.ts';
import { readDefinition } from '../core/provider/read-definition.ts';
import { localiseText } from '../core/provider/rehearsal.ts';
import { apiServer } from './api-server.ts';
import { authorizationServer } from './authorization-server.ts';
import { faults } from './faults.ts';
import { answeredApi, sessionBase } from './habits.ts';
import { lists } from './lists.ts';
import { standinOrders } from './orders.ts';
import type { Lives, RefreshUse } from './server-parts.ts';
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
  /** Its clock, epoch ms; left out: this machine's. */
  now?: (() => number) | undefined;
}

export interface RunningStandin {
  port: number;
  /** The provider's name, and where its clients are registered. */
  name: string;
  consolePage: string;
  /** The definition with loopback addresses, as text: what is loaded into the service. */
  definitionText: string;
  /** What it remembers, for tests that look for what was issued. */
  store: StandinStore;
  stop(): Promise<void>;
}

const hostsOf = (definition: ProviderDefinition): Set<string> => {
  const { server, apis, registration, identity } = definition;
  const addresses = [
    server.authorization_endpoint,
    server.token_endpoint,
    server.userinfo_endpoint,
    registration.page,
    identity?.endpoint,
    answeredApi(definition),
    sessionBase(definition),
    ...apis.map((api) => api.base_url),
  ];
  return new Set(addresses.flatMap((address) => (address ? [new URL(address).hostname] : [])));
};

/** Each place of the provider, by variant and choice: as itself, and as its clients there meet it. */
function placesOf(definition: ProviderDefinition): { realm: string; definition: ProviderDefinition }[] {
  const variants = [
    { name: '', whole: withVariant({ ...definition, variants: [] }, 'live', null) },
    ...definition.variants.map((one) => ({ name: one.name, whole: withVariant(definition, 'live', one.name) })),
  ];
  return variants.flatMap(({ name, whole }) =>
    everyChoice(definition).map((values) => ({
      realm: [name, ...Object.values(values)].filter(Boolean).join('.'),
      definition: composeDefinition(whole, values),
    })),
  );
}

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
  const definitionText = localiseText(options.definitionText, port);
  const definition = readDefinition(definitionText);

  let skewMs = 0;
  const ownNow = options.now ?? Date.now;
  const now = () => ownNow() + skewMs;
  const store = standinStore(options.stateFile ?? null, now);
  const lives: Lives = { accessSeconds: options.accessSeconds ?? 3600, ...(options.accessSecondsMost ? { accessSecondsMost: options.accessSecondsMost } : {}) };
  const counters: Record<string, number> = {};
  const count = (what: string) => {
    counters[what] = (counters[what] ?? 0) + 1;
  };
  const wrong = faults();
  const paged = lists();
  // One set of routes for each place of the provider, chosen by the host of the request; the sample programs come by 127.0.0.1.
  const places = placesOf(definition).map(({ realm, definition: here }) => {
    const parts = { definition: here, realm, store, faults: wrong, lives, lists: paged, now, count, watch: options.watch };
    return {
      realm,
      definition: here,
      hosts: hostsOf(here),
      serve: express.Router().use(authorizationServer(parts)).use(apiServer(parts)),
      server: here.server,
      page: new URL(here.registration.page ?? 'http://localhost/clients').pathname,
    };
  });
  const placeOf = (request: Request) => places.find((place) => place.hosts.has(request.hostname)) ?? (places[0] as (typeof places)[number]);

  app.disable('x-powered-by');
  app.set('query parser', 'simple');
  app.use((_request, response, next) => {
    response.setHeader('date', new Date(now()).toUTCString()); // its clock may be told to be wrong
    next();
  });
  app.use((request, response, next) => placeOf(request).serve(request, response, next));
  app.get(
    /^(\/.*)?\/\.well-known\/(openid-configuration|oauth-authorization-server)(\/.*)?$/,
    (request, response) => void response.json({ ...placeOf(request).server, scopes_supported: definition.scopes.map((scope) => scope.name) }),
  );
  app.get('/definition.yaml', (_request, response) => void response.type('text/yaml').send(definitionText));
  app.get('/', (request, response) => response.redirect(placeOf(request).page));

  const control = standinOrders({
    placeOf,
    store,
    faults: wrong,
    lives,
    lists: paged,
    counters,
    now,
    skew: (ms) => {
      skewMs = ms;
    },
  });
  app.use('/standin', control);
  // A tenant that nobody has looks like a client that nobody knows.
  app.post(/\/token$/, (_request, response) => void response.status(401).json({ error: 'invalid_client', error_description: 'Client authentication failed.' }));
  app.use((_request, response) => void response.status(404).json({ error: 'not_found', message: 'The stand-in has no such address.' }));
  app.use(
    ((error, _request, response, _next) =>
      void response
        .status(error instanceof z.ZodError ? 400 : 500)
        .json({ error: error instanceof z.ZodError ? z.prettifyError(error) : 'stand-in failure' })) as express.ErrorRequestHandler,
  );

  return {
    port,
    name: definition.name,
    consolePage: places[0]?.definition.registration.page ?? `http://127.0.0.1:${port}/clients`,
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
