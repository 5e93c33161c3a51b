import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { type ApiClient, apiClient, ProblemError } from '../src/api/client.ts';
import { referencePlacesOf } from '../src/api/operation-references.ts';
import { type OperationName, operationNames, operations } from '../src/api/operations.ts';
import type { Reference, ReferenceKind } from '../src/api/references.ts';
import { ruleOf } from '../src/api/role-rules.ts';
import { playInvitation } from '../src/standins/visitor.ts';
import { newFolder, newMasterKey, PASSWORD, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addClient, addEelgrass, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** What an account limited to the label team=alpha can name, see and change of what team=beta has: nothing. */
const LONG = 120_000;
const ALPHA = 'team=alpha';
const BETA = 'team=beta';
/** Every name of theirs, and nothing else, holds this word. */
const SECRETIVE = /betaish/;
let [service, marit, standin] = [] as unknown as [ServiceUnderTest, ApiClient & { token: string }, StandinUnderTest];
let limited: ApiClient & { token: string };
let output = '';
/** Of each kind: one within, one beyond, one that does not exist. */
type Names = Record<'own' | 'other' | 'unknown', string>;
const names = {} as Record<ReferenceKind, Names>;
const NO_ID = '019f0000-0000-7000-8000-000000000000';

const CALL = { path: '/tables', query: [], headers: [] };
const PAGING = { style: 'none' };

beforeAll(async () => {
  output = newFolder();
  service = await startService({
    databaseUrl: await newDatabase(),
    masterKey: newMasterKey(),
    environment: { RUSTY_KETTLE_OUTPUT_FOLDER: output },
  });
  marit = await signIn(service);
  standin = await startEelgrass(3_600);
  await addEelgrass(marit, standin);
  await addClient(marit, standin, 'robot', { provider: 'eelgrass', type: 'service_account' }).catch(() => undefined);
  const of = { provider: 'eelgrass', client: 'timetable', scopes: ['tables.read', 'profile', 'offline_access'] };
  for (const [team, label] of [
    ['alpha', ALPHA],
    ['betaish', BETA],
  ] as const) {
    await marit('addConnection', { body: { ...of, name: `${team}-x`, labels: [label, `env=${team}`] } });
    await marit('addConnection', { body: { ...of, name: `${team}-people`, shared: true, labels: [label] } });
    await marit('addCaller', { body: { name: `${team}-caller` } });
    for (const connection of [`${team}-x`, `${team}-people`])
      await marit('permitCaller', { params: { caller: `${team}-caller` }, body: { connection, people: 'manage' } });
    await marit('addJob', {
      body: {
        name: `${team}-job`,
        connection: `${team}-x`,
        call: { ...CALL, method: 'GET' },
        paging: PAGING,
        deliver: [{ kind: 'file', name: `${team}-job.csv` }],
      } as never,
    });
  }
  await marit('addCaller', { body: { name: 'both-betaish', connections: ['alpha-x', 'betaish-x'], redirect_uris: ['http://127.0.0.1:9/tool'] } });
  const { url } = await marit('inviteOperator', { body: { name: 'lotto', role: 'operator', labels: [ALPHA] } });
  await apiClient({ baseUrl: service.url })('joinOperator', { body: { ticket: url.split('/').at(-1) ?? '', password: PASSWORD } });
  const { token = '' } = await apiClient({ baseUrl: service.url })('signIn', { body: { name: 'lotto', password: PASSWORD, keeps: 'token' } });
  limited = Object.assign(apiClient({ baseUrl: service.url, token }), { token });

  const pair = async <T>(make: (team: string) => Promise<T>): Promise<[T, T]> => [await make('alpha'), await make('betaish')];
  const consents = await pair(async (team) => (await marit('openConnection', { params: { connection: `${team}-x` }, body: {} })).id);
  const invitations = await pair(
    async (team) =>
      (await marit('invitePerson', { params: { connection: `${team}-people` }, body: { person: `${team}-p`, purpose: 'x', caller: `${team}-caller` } })).id,
  );
  const runs = await pair(async (team) => (await marit('runJob', { params: { job: `${team}-job` } })).id);
  const set = (kind: ReferenceKind, own: string, other: string, unknown: string) => {
    names[kind] = { own, other, unknown };
  };
  set('connection', 'alpha-x', 'betaish-x', 'nothing-x');
  set('caller', 'alpha-caller', 'betaish-caller', 'nothing-caller');
  set('job', 'alpha-job', 'betaish-job', 'nothing-job');
  set('run', ...runs, NO_ID);
  set('consent', ...consents, NO_ID);
  set('invitation', ...invitations, NO_ID);
  set('subject', 'connection:alpha-x', 'connection:betaish-x', 'connection:nothing-x');
  set('label', ALPHA, BETA, 'team=nothing');
  set('kept_labels', ALPHA, BETA, 'team=nothing');
  set('permitted_label', ALPHA, BETA, 'team=nothing');
  set('label_filter', ALPHA, BETA, 'team=nothing');
}, LONG);
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  if (service) removeFolder(service.folder);
  removeFolder(output);
});

/** What else a request needs, so that nothing but the reference can be wrong. An operation that takes references and is not here fails the test. */
const BASE: Partial<Record<OperationName, { query?: Record<string, unknown>; body?: Record<string, unknown> }>> = {
  changeCaller: { body: { title: 'x' } },
  permitCaller: { body: {} },
  listSetupInstructions: { query: { connection: 'alpha-x' } },
  changeConnections: { body: { connections: ['alpha-x'], action: 'add_label', label: ALPHA } },
  addConnection: { body: { name: 'made', provider: 'eelgrass', client: 'timetable', scopes: ['tables.read'], labels: [ALPHA] } },
  changeConnection: { body: { revision: 1, policy: 'always' } },
  invitePerson: { body: { person: 'p', purpose: 'x' } },
  addCampaign: { body: { name: 'c', purpose: 'x' } },
  planJob: { body: { connection: 'alpha-x', call: { ...CALL, method: 'GET' }, paging: PAGING } },
  addJob: { body: { name: 'made', connection: 'alpha-x', call: { ...CALL, method: 'GET' }, paging: PAGING } },
  showStatistics: { query: { connection: 'alpha-x' } },
  disconnectPerson: { body: { person: 'x' } },
  importToken: { body: { refresh_token: 'r' } },
  setKey: { body: { key: 'k' } },
  decideStandby: { body: { decision: 'discard' } },
  answerConsent: { body: { pasted: 'x' } },
  explainPage: { body: { page: 'x' } },
  giveCode: { body: { code: 'x' } },
  addIdentity: { body: { kind: 'certificate', subject: 'CN=x' } },
  callConnection: { body: { path: '/x' } },
  saveCall: { body: { name: 'c', call: { path: '/x' } } },
  readCalls: { body: { text: 'curl https://x.example' } },
  writeCurl: { body: { path: '/x' } },
  recognizePaging: { body: { call: { ...CALL, method: 'GET' } } },
  collect: { body: { call: { ...CALL, method: 'GET' }, paging: PAGING } },
  changeJob: { body: { revision: 1, call: { ...CALL, method: 'GET' }, paging: PAGING } },
  setEventReceiver: { body: { url: 'https://x.example' } },
};
const BODIES = new Set<string>(['POST', 'PATCH']);
/** The whole problem as text: what is wrong stands in its places. */
async function whyOf(work: () => Promise<unknown>): Promise<string> {
  try {
    await work();
    return 'done';
  } catch (error) {
    if (error instanceof ProblemError) return JSON.stringify(error.problem);
    throw error;
  }
}

async function send(name: OperationName, place: Reference, value: string): Promise<{ status: number; text: string }> {
  const { method, path } = operations[name];
  const base = BASE[name] ?? {};
  const [where, member = '', inner] = place.place.split('.');
  const [query, body]: [Record<string, unknown>, Record<string, unknown>] = [{ ...base.query }, { ...base.body }];
  if (name === 'permitCaller' && where === 'path') body.label = ALPHA;
  if (where === 'query') query[member] = value;
  if (where === 'body') body[member] = inner === '*' || place.to === 'kept_labels' ? [value] : value;
  const params: Partial<Record<string, ReferenceKind>> = {
    connection: 'connection',
    caller: 'caller',
    job: 'job',
    run: 'run',
    consent: 'consent',
    invitation: 'invitation',
  };
  const isShared = /people|invitation|campaign/i.test(path);
  const address = path.replace(/\{(\w+)\}/g, (_whole, param: string) => {
    if (where === 'path' && member === param) return isShared && param === 'connection' ? value.replace(/-x$/, '-people') : value;
    if (param === 'connection' && isShared) return 'alpha-people';
    const kind = params[param];
    return kind ? names[kind].own : param === 'provider' ? 'eelgrass' : param === 'client' ? 'timetable' : NO_ID;
  });
  const search = new URLSearchParams(Object.entries(query).map(([key, one]) => [key, String(one)] as [string, string]));
  const response = await fetch(`${service.url}${address}${search.size > 0 ? `?${search}` : ''}`, {
    method,
    headers: { authorization: `Bearer ${limited.token}`, ...(BODIES.has(method) ? { 'content-type': 'application/json' } : {}) },
    ...(BODIES.has(method) ? { body: JSON.stringify(body) } : {}),
  });
  return { status: response.status, text: await response.text() };
}

const HARMLESS: ReadonlySet<ReferenceKind> = new Set(['shared', 'part', 'installation', 'client_to_use', 'sign_in_request', 'notice']);
const limitedOperations = operationNames.filter(
  (name) => ruleOf(name) !== null && ruleOf(name)?.limit !== 'installation' && operations[name].access !== 'operator_at_sign_in',
);
const places = limitedOperations.flatMap((name) => referencePlacesOf(name).map((place) => ({ name, place })));

describe('every reference of every operation', () => {
  test('the walk knows every operation that takes a reference in its query or body', () => {
    const missing = places.filter(
      ({ name, place }) => !place.place.startsWith('path.') && !HARMLESS.has(place.to) && place.to !== 'label_filter' && place.to !== 'subject' && !BASE[name],
    );
    expect(missing.map(({ name, place }) => `${name} ${place.place}`)).toEqual([]);
    expect(places.length).toBeGreaterThan(70);
  });

  test.each(places.filter(({ place }) => !HARMLESS.has(place.to) && place.to !== 'label_filter').map(({ name, place }) => [name, place.place, place] as const))(
    '%s, %s: what is beyond the limit answers as what does not exist',
    async (name, _place, place) => {
      const { other, unknown } = names[place.to];
      const [foreign, none] = [await send(name, place, other), await send(name, place, unknown)];
      const same = (text: string) =>
        text.replaceAll(/betaish|nothing|beta|[0-9a-f]{8}-[0-9a-f-]{27}/g, '*').replaceAll(/"request_id":"[^"]*"|"instance":"[^"]*"/g, '');
      expect([400, 403, 404]).toContain(foreign.status);
      expect([foreign.status, same(foreign.text)]).toEqual([none.status, same(none.text)]);
      expect(foreign.text).toMatch(/NOT_FOUND|OUTSIDE_LIMITS/);
    },
  );

  test.each(places.filter(({ place }) => place.to === 'label_filter').map(({ name, place }) => [name, place] as const))(
    '%s: a filter by their label gives what a filter by no label gives',
    async (name, place) => {
      const [foreign, none] = [await send(name, place, BETA), await send(name, place, 'team=nothing')];
      const plain = (text: string) => text.replaceAll(/\d{4}-\d\d-\d\dT[\d:.]+Z/g, '');
      expect([foreign.status, plain(foreign.text)]).toEqual([none.status, plain(none.text)]);
    },
  );

  test('and nothing of it was done: their caller and connection are as they were', async () => {
    expect((await marit('showCaller', { params: { caller: 'alpha-caller' } })).connections).toEqual(['alpha-people', 'alpha-x']);
    expect((await marit('showConnection', { params: { connection: 'betaish-x' } })).labels).toEqual(['env=betaish', BETA]);
    expect((await marit('showConnection', { params: { connection: 'alpha-x' } })).labels).toEqual(['env=alpha', ALPHA]);
  });
});

describe('what is shown', () => {
  /** Everything that the account can read without naming anything, or by naming its own. */
  const READS: [OperationName, object][] = [
    ...(
      [
        'showStatus',
        'listUpcoming',
        'listNotices',
        'listConnections',
        'listCallers',
        'listJobs',
        'listProviders',
        'listClients',
        'listOperators',
        'showSession',
      ] as const
    ).map((name): [OperationName, object] => [name, {}]),
    ['showConnection', { params: { connection: 'alpha-x' } }],
    ['showCaller', { params: { caller: 'alpha-caller' } }],
    ['listInvitations', { params: { connection: 'alpha-people' } }],
    ['listCampaigns', { params: { connection: 'alpha-people' } }],
    ['showQuota', { params: { connection: 'alpha-x' } }],
    ['showClient', { params: { provider: 'eelgrass', client: 'timetable' } }],
    ['listHistory', { query: { subject: 'connection:alpha-x' } }],
    ['listHistory', { query: { subject: 'caller:alpha-caller' } }],
  ];

  test(
    'a client that serves both teams expires: neither Upcoming nor the notice names what is beyond the limit, and only the own ones are counted',
    async () => {
      const ends = new Date(Date.now() + 5 * 86_400_000).toISOString();
      const { secrets } = await marit('showClient', { params: { provider: 'eelgrass', client: 'timetable' } });
      await marit('changeSecret', { params: { provider: 'eelgrass', client: 'timetable', secret: secrets[0]?.id ?? '' }, body: { ends_at: ends } });
      await marit('invitePerson', { params: { connection: 'alpha-people' }, body: { person: 'q', purpose: 'x', caller: 'both-betaish' } });
      const notice = await eventually(
        async () => (await marit('listNotices', { query: {} })).items.find((one) => one.title.includes('eelgrass/timetable')) ?? null,
        LONG,
      );
      expect(notice).toMatchObject({ labels: expect.arrayContaining([ALPHA, BETA]), subject: 'client:eelgrass/timetable' });
      const all = (await marit('listUpcoming', { query: {} })).items.find((one) => one.what.includes('timetable'));
      const mine = (await limited('listUpcoming', { query: {} })).items.find((one) => one.what.includes('timetable'));
      expect(all?.breaks).toMatchObject({ callers: ['alpha-caller', 'betaish-caller', 'both-betaish'], jobs: ['alpha-job', 'betaish-job'] });
      expect(mine?.breaks).toEqual({ connections: 4, examples: ['alpha-people', 'alpha-x'].sort(), callers: ['alpha-caller'], jobs: ['alpha-job'] });
      for (const [name, request] of READS) {
        const shown = JSON.stringify(await limited(name, request as never));
        expect([name, SECRETIVE.test(shown.replaceAll('both-betaish-own', ''))]).toEqual([name, false]);
        expect([name, shown.includes(BETA)]).toEqual([name, false]);
      }
      // For everybody only by those who may see all of it.
      for (const work of [
        () => limited('acknowledgeNotice', { params: { notice: notice.id } }),
        () => limited('snoozeNotice', { params: { notice: notice.id }, body: { until: ends } }),
        () => limited('assignNotice', { params: { notice: notice.id }, body: { to: 'lotto' } }),
      ])
        await expect(work()).rejects.toThrow(/more than your account may see/);
      expect((await marit('showNotice', { params: { notice: notice.id } })).acknowledged_by).toBeNull();
      expect(await limited('showNotice', { params: { notice: notice.id } })).toMatchObject({ evidence: '', labels: [ALPHA], deliveries: [] });
    },
    LONG,
  );

  test('the overview counts what is within, and shows nothing of the machines', async () => {
    const [all, mine] = [await marit('showStatus'), await limited('showStatus')];
    expect(all.replicas.length).toBeGreaterThan(0);
    expect(mine).toMatchObject({ connections: { total: 2 }, replicas: [], endpoints: [], callers: 1 });
    expect((await limited('listProviders')).items[0]).toMatchObject({ connections: 2 });
    expect((await limited('showClient', { params: { provider: 'eelgrass', client: 'timetable' } })).connections).toBe(2);
  });

  test('a tool that signs in shows the connections within alone, and its caller opens no other one', async () => {
    const { caller_id } = (await marit('listCallers')).items.find((one) => one.name === 'both-betaish') ?? { caller_id: '' };
    const query = new URLSearchParams({
      ...{ response_type: 'code', client_id: caller_id, redirect_uri: 'http://127.0.0.1:9/tool', state: 's' },
      ...{ code_challenge: 'E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM', code_challenge_method: 'S256' },
    });
    const begun = await fetch(`${service.url}/oauth/authorize?${query}`, { redirect: 'manual' });
    const id = begun.headers.get('location')?.split('/').at(-1) ?? '';
    const signedIn = await fetch(`${service.url}/api/v1/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', origin: service.url },
      body: JSON.stringify({ name: 'lotto', password: PASSWORD }),
    });
    const cookie = [...signedIn.headers.getSetCookie(), ...begun.headers.getSetCookie()].map((one) => one.split(';')[0]).join('; ');
    const headers = { cookie, 'content-type': 'application/json', origin: service.url };
    const shown = await (await fetch(`${service.url}/api/v1/sign-in-requests/${id}`, { headers })).text();
    expect(shown).toContain('alpha-x');
    expect(shown).not.toContain('betaish-x');
    const answer = (connection: string) =>
      fetch(`${service.url}/api/v1/sign-in-requests/${id}/answer`, { method: 'POST', headers, body: JSON.stringify({ connection }) });
    expect((await answer('betaish-x')).status).toBe(404);
    expect((await answer('nothing-x')).status).toBe(404);
    expect((await answer('alpha-x')).status).toBe(200);
  });
});

describe('what belongs to one team', () => {
  test.each(['betaish-job.csv', 'Betaish-Job.csv'])('a file that another job delivers is not delivered by a second one: %s', async (file) => {
    const body = { name: 'thief', connection: 'alpha-x', call: { ...CALL, method: 'GET' }, paging: PAGING, deliver: [{ kind: 'file', name: file }] };
    expect(await whyOf(() => limited('addJob', { body: body as never }))).toMatch(/Another job delivers/);
  });

  test('what a workload or a certificate of one caller is, no second caller can be', async () => {
    const rule = { kind: 'workload' as const, issuer: 'https://ci.saltmarsh.example', jwks_url: 'https://ci.saltmarsh.example/keys' };
    await marit('addIdentity', { params: { caller: 'betaish-caller' }, body: { ...rule, claims: { sub: 'job:nightly' } } });
    const add = (claims: Record<string, string>, audience?: string) =>
      limited('addIdentity', {
        params: { caller: 'alpha-caller' },
        body: { ...rule, jwks_url: 'https://mine.example/keys', claims, ...(audience ? { audience } : {}) },
      });
    for (const claims of [{ sub: '*' }, { sub: 'job:*' }, { sub: 'job:nightly' }, { team: 'alpha' }])
      expect(await whyOf(() => add(claims))).toMatch(/another caller/);
    await add({ sub: 'job:daily' });
    await add({ sub: '*' }, 'https://alpha.saltmarsh.example');
    await marit('addIdentity', { params: { caller: 'betaish-caller' }, body: { kind: 'certificate', subject: 'CN=nightly,O=Saltmarsh' } });
    expect(
      await whyOf(() => limited('addIdentity', { params: { caller: 'alpha-caller' }, body: { kind: 'certificate', subject: 'CN=nightly,O=Saltmarsh' } })),
    ).toMatch(/Another caller/);
  });

  test('the history of a removed connection is not that of a new one with its name', async () => {
    const of = { provider: 'eelgrass', client: 'timetable', scopes: ['tables.read'] };
    await marit('addConnection', { body: { ...of, name: 'passed-on', labels: [BETA] } });
    await marit('changeConnection', { params: { connection: 'passed-on' }, body: { revision: 1, expected_account: 'betaish@account.example' } });
    await marit('removeConnection', { params: { connection: 'passed-on' } });
    await limited('addConnection', { body: { ...of, name: 'passed-on', labels: [ALPHA] } });
    const shown = await eventually(async () => {
      const { items } = await limited('listHistory', { query: { subject: 'connection:passed-on' } });
      return items.length > 0 ? items : null;
    }, LONG);
    expect(shown.map((one) => one.kind)).toEqual(['connection_added']);
    expect((await marit('listHistory', { query: { subject: 'connection:passed-on' } })).items.length).toBeGreaterThan(2);
  });

  test('labels that only others have can be given to nothing', async () => {
    const { revision } = await limited('showConnection', { params: { connection: 'alpha-x' } });
    const change = (labels: string[]) => limited('changeConnection', { params: { connection: 'alpha-x' }, body: { revision, labels } });
    await expect(change([ALPHA, BETA])).rejects.toThrow(/You can give these labels/);
    await expect(change([ALPHA, 'env=betaish'])).rejects.toThrow(/You can give these labels/);
    await change([ALPHA, 'env=alpha']);
    await playInvitation((await limited('invitePerson', { params: { connection: 'alpha-people' }, body: { person: 'guest', purpose: 'x' } })).url, {
      account: 'eg-1077',
    });
  });
});
