import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { operations } from '../src/api/operations.ts';
import { newMasterKey, PASSWORD, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { Fuzzer, type FuzzRequest } from './support/fuzz.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Every route, again and again with what nobody would send. `npm run fuzz` does the same for longer, with a seed of the day. */
const SEED = Number(process.env.FUZZ_SEED ?? 20_261_128);
const ROUNDS = Number(process.env.FUZZ_ROUNDS ?? 4);
const ANSWER_WITHIN_MS = 30_000;
const AT_ONCE = 8;
/** They end the session or the password with which the fuzz is done. */
const LEFT_OUT = ['signOut', 'changePassword', 'endOtherSessions'];
const LANES = [
  '/oauth/token',
  '/oauth/revoke',
  '/oauth/callback/eelgrass/timetable',
  '/oauth/keys/eelgrass/timetable',
  '/oauth/authorize',
  '/consent/start',
  '/connections/tides',
  '/connections',
  '/api/v1',
  '/api/v1/session',
  '/own',
  '/.well-known/oauth-authorization-server',
  '/',
];

let [service, standin, call]: [ServiceUnderTest, StandinUnderTest, ApiClient & { token: string }] = [] as never;
let caller: { caller_id: string; key: string };
const masterKey = newMasterKey();
const secrets = new Map<string, string>();
let known: Record<string, string[]> = {};

beforeAll(async () => {
  standin = await startEelgrass(3600);
  service = await startService({ databaseUrl: await newDatabase(), masterKey });
  call = await signIn(service);
  const registered = await addEelgrass(call, standin);
  await addConnection(call, 'tides');
  await agree(call, 'tides');
  caller = await call('addCaller', { body: { name: 'board', connections: ['tides'] } });
  const token = await fetchToken(service.url, caller.caller_id, caller.key);
  for (const [name, value] of [
    ['the client secret', registered.secret],
    ['the caller\u2019s key', caller.key],
    ['the access token', String(token.body.access_token)],
    ['the session', call.token],
    ['the password', PASSWORD],
    ['the master key', masterKey],
  ] as const)
    secrets.set(name, value);
  const { consent } = { consent: (await call('openConnection', { params: { connection: 'tides' } })).id };
  known = { provider: ['eelgrass'], client: ['timetable'], connection: ['tides'], caller: ['board'], caller_id: [caller.caller_id], consent: [consent] };
});
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
});

const counts: Record<number, number> = {};

interface Broken {
  request: string;
  why: string;
}

/** Sends it; what is wrong with the answer, or null. */
async function broken(request: FuzzRequest, headers: Record<string, string>): Promise<Broken | null> {
  const shown = `${request.method} ${request.path.slice(0, 200)} ${request.body?.slice(0, 400) ?? ''}`;
  let answer: Response; // counted below: a fuzz that only meets sign-in for tools is none
  let body: string;
  try {
    answer = await fetch(`${service.url}${request.path}`, {
      method: request.method,
      headers: { ...headers, ...request.headers },
      body: request.body ?? null,
      redirect: 'manual',
      signal: AbortSignal.timeout(ANSWER_WITHIN_MS),
    });
    body = await answer.text();
    counts[Math.floor(answer.status / 100)] = (counts[Math.floor(answer.status / 100)] ?? 0) + 1;
  } catch (error) {
    return { request: shown, why: `no answer: ${error instanceof Error ? `${error.message} ${String(error.cause ?? '')}` : 'unknown'}` };
  }
  // 503 is an answer of ours where it names a code and when to come again: such as a provider that cannot be reached.
  const explained = answer.status === 503 && /"code":"|"error":"temporarily_unavailable"/.test(body);
  if (answer.status >= 500 && !explained && !/"code":"PROVIDER_/.test(body)) return { request: shown, why: `${answer.status} ${body.slice(0, 300)}` };
  for (const [name, secret] of secrets) if (body.includes(secret) && !(request.body ?? '').includes(secret)) return { request: shown, why: `it shows ${name}` };
  if (/node_modules|at file:\/\/|\.js:\d+:\d+/.test(body)) return { request: shown, why: `it shows the inside: ${body.slice(0, 300)}` };
  return null;
}

async function all(requests: { request: FuzzRequest; headers: Record<string, string> }[]): Promise<Broken[]> {
  const found: Broken[] = [];
  let next = 0;
  const worker = async () => {
    for (let at = next++; at < requests.length; at = next++) {
      const one = requests[at];
      const wrong = one ? await broken(one.request, one.headers) : null;
      if (wrong) found.push(wrong);
    }
  };
  await Promise.all(Array.from({ length: AT_ONCE }, worker));
  return found;
}

test(`${ROUNDS} rounds of every operation, seed ${SEED}: no error of ours, none without an answer, nothing shown`, async () => {
  const fuzzer = new Fuzzer(SEED, known);
  const names = Object.entries(operations).filter(([name]) => !LEFT_OUT.includes(name));
  const requests = Array.from({ length: ROUNDS }, () =>
    names.map(([, operation]) => ({
      request: fuzzer.ofOperation(operation),
      headers: {
        authorization: operation.access === 'caller' ? `Bearer ${caller.caller_id}.${caller.key}` : `Bearer ${call.token}`,
      },
    })),
  )
    .flat()
    // `callers/../events` is the live stream, which does not end.
    .filter(({ request }) => new URL(request.path, service.url).pathname !== '/api/v1/events');
  expect(await all(requests)).toEqual([]);
  expect(counts[2] ?? 0).toBeGreaterThan(requests.length / 10); // it gets behind the checks of shape
  expect(counts[4] ?? 0).toBeGreaterThan(requests.length / 10);
}, 600_000);

test(`requests of no shape to every lane, seed ${SEED}: the same, and the service goes on as before`, async () => {
  const fuzzer = new Fuzzer(SEED + 1, known);
  const key = { authorization: `Bearer ${caller.caller_id}.${caller.key}` };
  const requests = Array.from({ length: ROUNDS * 100 }, () => ({ request: fuzzer.raw(LANES), headers: fuzzer.chance(0.3) ? key : {} }));
  expect(await all(requests)).toEqual([]);
  expect((await fetch(`${service.url}/readyz`)).status).toBe(200);
  expect(service.output()).not.toMatch(/unhandled|uncaught/i);
}, 600_000);
