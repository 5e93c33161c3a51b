import { createServer, type Server } from 'node:http';
import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import { LOG_EVENTS } from '../src/service/log-events.ts';
import { newMasterKey, PASSWORD, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** What an operator sees of the service from outside: spans, and a log with stable names whose level changes at run time. */
interface Span {
  name: string;
  spanId: string;
  parentSpanId?: string;
  attributes: { key: string; value: Record<string, unknown> }[];
}
let [service, call, standin, receiver] = [] as unknown as [ServiceUnderTest, ApiClient & { token: string }, StandinUnderTest, Server];
let secret = '';
const bodies: string[] = [];
const spans = (): Span[] =>
  bodies.flatMap((body) =>
    (JSON.parse(body) as { resourceSpans: { scopeSpans: { spans: Span[] }[] }[] }).resourceSpans.flatMap((one) =>
      one.scopeSpans.flatMap((scope) => scope.spans),
    ),
  );
const named = (name: string) => spans().filter((span) => span.name === name);

beforeAll(async () => {
  receiver = createServer((request, response) => {
    let body = '';
    request.on('data', (part) => (body += part));
    request.on('end', () => {
      bodies.push(body);
      response.writeHead(200, { 'content-type': 'application/json' }).end('{}');
    });
  });
  await new Promise<void>((resolve) => receiver.listen(0, '127.0.0.1', resolve));
  const { port } = receiver.address() as { port: number };
  standin = await startEelgrass(600);
  service = await startService({
    databaseUrl: await newDatabase(),
    masterKey: newMasterKey(),
    environment: { RUSTY_KETTLE_TRACES_URL: `http://127.0.0.1:${port}/v1/traces`, RUSTY_KETTLE_LOG_LEVEL: 'info', OTEL_BSP_SCHEDULE_DELAY: '200' },
  });
  call = await signIn(service);
  ({ secret } = await addEelgrass(call, standin));
  await addConnection(call, 'tides');
  await agree(call, 'tides');
}, 120_000);
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  receiver?.close();
});

test('a token, a renewal, a relayed call and a run become spans; requests to the provider are within them; no secret and no account is in any', async () => {
  const { caller_id, key } = await call('addCaller', { body: { name: 'board', connections: ['tides'] } });
  const { body } = await fetchToken(service.url, caller_id, key);
  await call('renewConnection', { params: { connection: 'tides' } });
  const authorization = `Basic ${Buffer.from(`${caller_id}:${key}`).toString('base64')}`;
  expect((await fetch(`${service.url}/relay/tides/tables`, { headers: { authorization } })).status).toBe(200);
  await call('addJob', { body: { name: 'rows', connection: 'tides', call: { method: 'GET', path: '/tables/sailings/rows' } } });
  const run = await call('runJob', { params: { job: 'rows' } });
  await eventually(async () => (await call('showRun', { params: { run: run.id } })).state === 'done');
  await eventually(async () => ['token.issue', 'token.renew', 'relay.call', 'job.run', 'provider.request'].every((name) => named(name).length > 0));
  const parents = new Map(spans().map((span) => [span.spanId, span.name]));
  const above = new Set(named('provider.request').map((span) => parents.get(span.parentSpanId ?? '') ?? ''));
  expect([above.has('token.renew'), above.has('job.run')]).toEqual([true, true]);
  const [relayed] = named('relay.call');
  expect(relayed?.attributes).toEqual(expect.arrayContaining([{ key: 'caller', value: { stringValue: 'board' } }]));
  for (const hidden of [secret, key, String(body.access_token), 'marit.holm', 'eg-1042']) expect(bodies.join('\n')).not.toContain(hidden);
});

test('the log level changes for a while on a running service, and every line has a name that is listed', async () => {
  const home = service.folder;
  await rk(['sign-in', '--url', service.url, '--name', 'marit'], { home, input: PASSWORD });
  const run = (...args: string[]) => rk(['--url', service.url, ...args], { home });
  expect((await run('log', 'show')).out).toMatch(/Level +info[\s\S]*Configured +info/);
  expect(service.output()).not.toContain('"event":"http.request"');
  expect((await run('log', 'level', 'loud')).code).toBe(2);
  expect((await run('log', 'level', 'debug', '--minutes', '5')).code).toBe(0);
  await eventually(async () => {
    await call('showStatus');
    return service.output().includes('"event":"http.request"');
  });
  expect(await call('showLogLevel')).toMatchObject({ level: 'debug', usual: 'info', until: expect.any(String) });
  const [entry] = (await call('listHistory', { query: { kind: 'log_level_changed' } })).items;
  expect(entry).toMatchObject({ actor: 'marit', says: 'Set the log level to debug for 5 minutes.' });
  const lines = service
    .output()
    .split('\n')
    .filter((line) => line.startsWith('{'));
  const events = lines.map((line) => (JSON.parse(line) as { event?: string }).event ?? `unnamed: ${line}`);
  expect(events.filter((event) => !Object.hasOwn(LOG_EVENTS, event))).toEqual([]);
});

test('what is taken away is in the log: a result by an operator, one by a program, entries of the log itself', async () => {
  const { items } = await call('listRuns', { params: { job: 'rows' } });
  const headers = { authorization: `Bearer ${call.token}` };
  expect((await fetch(`${service.url}/api/v1/runs/${items[0]?.id}/result.csv`, { headers })).status).toBe(200);
  await rk(['--url', service.url, 'activity', 'export'], { home: service.folder });
  const found = await eventually(async () => {
    const kinds = ['result_fetched', 'activity_exported'];
    const all = await Promise.all(kinds.map((kind) => call('listHistory', { query: { kind } })));
    return all.every((one) => one.items.length > 0) ? all.flatMap((one) => one.items) : null;
  });
  expect(found.map((one) => [one.actor, one.subject, one.says])).toEqual([
    ['marit', 'job:rows', 'Fetched the result of run 1 as csv.'],
    ['marit', 'installation', 'Exported entries of the activity log.'],
  ]);
});
