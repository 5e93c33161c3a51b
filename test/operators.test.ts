import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { generate } from 'otplib';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { type ApiClient, apiClient, ProblemError } from '../src/api/client.ts';
import { type OperationName, operationNames, operations } from '../src/api/operations.ts';
import { ROLE_RULES, ruleOf } from '../src/api/role-rules.ts';
import { atLeast, ROLES, type Role } from '../src/api/roles.ts';
import { freePort } from '../src/service/database/private-mariadb.ts';
import { type Database, openDatabase } from '../src/service/store/database.ts';
import { openBrowser } from '../testing/chromium.ts';
import { newFolder, newMasterKey, PASSWORD, removeFolder, rk, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addEelgrass, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Who may do what: roles, limits, second factors, personal tokens. Driven over HTTP. */
const LONG = 60_000;
let [service, marit, standin, database] = [] as unknown as [ServiceUnderTest, ApiClient & { token: string }, StandinUnderTest, Database];
let [databaseUrl, masterKey] = ['', newMasterKey()];
const anyone = (): ApiClient => apiClient({ baseUrl: service.url });
const as = (token: string): ApiClient => apiClient({ baseUrl: service.url, token });

beforeAll(async () => {
  databaseUrl = await newDatabase();
  // Passkeys need a host name, and an authenticator of the browser takes `localhost` for a secure one.
  service = await startService({ databaseUrl, masterKey });
  marit = await signIn(service);
  standin = await startEelgrass(3_600);
  database = openDatabase(databaseUrl, 2);
}, LONG);
afterAll(async () => {
  await database?.close();
  await service?.stop();
  await standin?.stop();
  if (service) removeFolder(service.folder);
});

const codeOf = async (work: () => Promise<unknown>): Promise<string> => {
  try {
    await work();
    return 'done';
  } catch (error) {
    if (error instanceof ProblemError) return error.problem.code;
    throw error;
  }
};
/** Someone new, who has a password. */
async function newcomer(name: string, role: Role, labels: string[] = []): Promise<ApiClient & { token: string }> {
  const { url } = await marit('inviteOperator', { body: { name, role, labels } });
  await anyone()('joinOperator', { body: { ticket: url.split('/').at(-1) ?? '', password: PASSWORD } });
  const { token = '' } = await anyone()('signIn', { body: { name, password: PASSWORD, keeps: 'token' } });
  return Object.assign(as(token), { token });
}
/** An operation with nothing in its body and names that do not exist: enough to see who is let in. */
async function tried(name: OperationName, token: string): Promise<string> {
  const { method, path } = operations[name];
  const response = await fetch(`${service.url}${path.replace(/\{\w+\}/g, 'nothing')}`, {
    method,
    headers: { authorization: `Bearer ${token}`, ...(method === 'GET' ? {} : { 'content-type': 'application/json' }) },
    ...(method === 'GET' || method === 'DELETE' ? {} : { body: '{}' }),
  });
  const answer = (await response.json()) as { code?: string };
  return answer.code ?? 'done';
}

describe('the matrix of roles', () => {
  /** They end the session that calls them: last. */
  const ENDING = ['signOut', 'endOtherSessions'];
  const ruled = operationNames.filter((name) => operations[name].access !== 'anyone' && operations[name].access !== 'caller');
  const inOrder = [...ruled.filter((name) => !ENDING.includes(name)), ...ENDING] as OperationName[];

  test('every operation of operators has a line, and no line is without an operation', () => {
    expect(Object.keys(ROLE_RULES).sort()).toEqual([...ruled].sort());
    for (const name of ruled)
      if (/^(show|list)/.test(name) && ruleOf(name)?.role !== 'viewer')
        expect([
          'showOperator',
          'showCallValues',
          'showJobValues',
          'showChannelValues',
          'showReceiverValues',
          'listCalendars',
          'showSignInRequest',
          'showKeys',
          'listBackups',
          'showBackup',
          'showBackupPlan',
          'showPractice',
          'listInstallationRisks',
          'showIdentityProvider',
        ]).toContain(name);
    for (const name of ruled)
      if (operations[name].method !== 'GET' && ruleOf(name)?.role === 'viewer')
        expect(`${name} ${operations[name].path}`).toMatch(/session|account|verifyActivity|composeProvider|chooseScopes|compareThumbprint|checkRedirectUri/);
  });

  test.each(ROLES)(
    'a %s',
    async (role) => {
      const { token } = await newcomer(`matrix-${role}`, role);
      for (const name of inOrder) {
        const outcome = await tried(name, token);
        // Only a browser that a tool sent here may, whatever the role.
        if (operations[name].access === 'operator_at_sign_in') expect(outcome).toBe('SIGN_IN_REQUEST_EXPIRED');
        const isAllowed = operations[name].access === 'operator_at_sign_in' || atLeast(role, ruleOf(name)?.role ?? 'administrator');
        expect([name, outcome === 'ROLE_TOO_LOW']).toEqual([name, !isAllowed]);
        expect([name, outcome]).not.toEqual([name, 'INTERNAL']);
      }
      expect(await tried('showSession', token)).toBe('SIGN_IN_NEEDED');
    },
    LONG,
  );

  test('someone who is limited to a label gets nothing of the whole installation', async () => {
    const { token } = await newcomer('matrix-limited', 'administrator', ['team=deck']);
    for (const name of inOrder.filter((one) => ruleOf(one)?.limit === 'installation')) {
      const outcome = await tried(name, token);
      // A body that is not read yet is wrong before it is outside; neither does anything.
      expect([name, ['OUTSIDE_LIMITS', 'INPUT_INVALID'].includes(outcome)]).toEqual([name, true]);
    }
  });
});

describe('limits by label', () => {
  let limited: ApiClient & { token: string };
  beforeAll(async () => {
    await addEelgrass(marit, standin);
    const of = { provider: 'eelgrass', client: 'timetable', scopes: ['tables.read'] };
    await marit('addConnection', { body: { ...of, name: 'deck-roster', labels: ['team=deck'] } });
    await marit('addConnection', { body: { ...of, name: 'office-ledger', labels: ['team=office'] } });
    await marit('addCaller', { body: { name: 'deck-board', connections: ['deck-roster'] } });
    await marit('addCaller', { body: { name: 'both-board', connections: ['deck-roster', 'office-ledger'] } });
    limited = await newcomer('limited', 'operator', ['team=deck']);
  }, LONG);

  test('lists show what is within, and what is outside does not exist', async () => {
    expect((await limited('listConnections')).items.map((one) => one.name)).toEqual(['deck-roster']);
    expect((await limited('listConnections')).total).toBe(1);
    expect((await limited('showStatus')).connections.total).toBe(1);
    expect((await limited('showStatus')).attention.map((one) => one.name)).toEqual(['deck-roster']);
    expect((await limited('listCallers')).items.map((one) => one.name)).toEqual(['deck-board']);
    expect((await limited('showConnection', { params: { connection: 'deck-roster' } })).name).toBe('deck-roster');
    const before = await codeOf(() => limited('showConnection', { params: { connection: 'office-ledger' } }));
    expect([before, await codeOf(() => limited('showConnection', { params: { connection: 'no-such' } }))]).toEqual(['NOT_FOUND', 'NOT_FOUND']);
  });

  const at = (connection: string) => ({ params: { connection } });
  test.each<[string, (call: ApiClient) => Promise<unknown>, string]>([
    ['pause one within', (call) => call('pauseConnection', at('deck-roster')), 'CONNECTION_NOT_CONSENTED'],
    ['pause one outside', (call) => call('pauseConnection', at('office-ledger')), 'NOT_FOUND'],
    ['revoke one outside', (call) => call('revokeConnection', at('office-ledger')), 'NOT_FOUND'],
    ['pause both at once', (call) => call('changeConnections', { body: { connections: ['deck-roster', 'office-ledger'], action: 'pause' } }), 'NOT_FOUND'],
    [
      'take its label away',
      (call) => call('changeConnections', { body: { connections: ['deck-roster'], action: 'remove_label', label: 'team=deck' } }),
      'OUTSIDE_LIMITS',
    ],
    [
      'give it another label only',
      async (call) => {
        const { revision } = await call('showConnection', at('deck-roster'));
        return call('changeConnection', { ...at('deck-roster'), body: { revision, labels: ['team=office'] } });
      },
      'OUTSIDE_LIMITS',
    ],
    [
      'add one without the label',
      (call) => call('addConnection', { body: { provider: 'eelgrass', client: 'timetable', name: 'loose', scopes: ['tables.read'] } }),
      'OUTSIDE_LIMITS',
    ],
    [
      'add one with it',
      (call) =>
        call('addConnection', { body: { provider: 'eelgrass', client: 'timetable', name: 'deck-more', scopes: ['tables.read'], labels: ['team=deck'] } }),
      'done',
    ],
    ['permit a caller of its own', (call) => call('permitCaller', { params: { caller: 'deck-board' }, body: { label: 'team=deck' } }), 'done'],
    ['permit it with another label', (call) => call('permitCaller', { params: { caller: 'deck-board' }, body: { label: 'team=office' } }), 'OUTSIDE_LIMITS'],
    ['permit it with one outside', (call) => call('permitCaller', { params: { caller: 'deck-board' }, body: { connection: 'office-ledger' } }), 'NOT_FOUND'],
    ['a key for a caller of both', (call) => call('addKey', { params: { caller: 'both-board' }, body: {} }), 'NOT_FOUND'],
    [
      'the secret of a client that serves all',
      (call) => call('addSecret', { params: { provider: 'eelgrass', client: 'timetable' }, body: { secret: 'x'.repeat(40) } }),
      'OUTSIDE_LIMITS',
    ],
    ['activity of one within', (call) => call('listHistory', { query: { subject: 'connection:deck-roster' } }), 'done'],
    ['activity of one outside', (call) => call('listHistory', { query: { subject: 'connection:office-ledger' } }), 'NOT_FOUND'],
    ['all activity', (call) => call('listHistory'), 'OUTSIDE_LIMITS'],
    ['a job on one outside', (call) => call('planJob', { body: { connection: 'office-ledger', operation: 'list-tables' } as never }), 'NOT_FOUND'],
  ])('%s: %#', async (_name, work, expected) => {
    const outcome = await codeOf(() => work(limited));
    if (expected === 'NOT_FOUND' && outcome === 'INPUT_INVALID') return; // the job's body is wrong as well
    expect(outcome).toBe(expected);
  });
});

describe('accounts', () => {
  test('invited, joined once, changed at once, disabled at once, removed for good', async () => {
    const { url } = await marit('inviteOperator', { body: { name: 'oda', role: 'viewer' } });
    const ticket = url.split('/').at(-1) ?? '';
    expect(await anyone()('showJoin', { body: { ticket } })).toMatchObject({ operator: 'oda', role: 'viewer', invited_by: 'marit' });
    expect(await codeOf(() => anyone()('signIn', { body: { name: 'oda', password: '' } }))).toBe('SIGN_IN_WRONG');
    await anyone()('joinOperator', { body: { ticket, password: PASSWORD } });
    expect(await codeOf(() => anyone()('joinOperator', { body: { ticket, password: PASSWORD } }))).toBe('TICKET_SPENT');
    const { token = '' } = await anyone()('signIn', { body: { name: 'oda', password: PASSWORD, keeps: 'token' } });
    expect(await codeOf(() => as(token)('changeAnswers', { body: {} as never }))).toBe('ROLE_TOO_LOW');
    await marit('changeOperator', { params: { operator: 'oda' }, body: { role: 'operator' } });
    expect(await codeOf(() => as(token)('startRehearsal', { body: {} as never }))).toBe('INPUT_INVALID');
    await marit('changeOperator', { params: { operator: 'oda' }, body: { disabled: true } });
    expect(await codeOf(() => as(token)('showSession'))).toBe('SIGN_IN_NEEDED');
    expect(await codeOf(() => anyone()('signIn', { body: { name: 'oda', password: PASSWORD } }))).toBe('SIGN_IN_WRONG');
    await marit('removeOperator', { params: { operator: 'oda' } });
    expect(await codeOf(() => marit('inviteOperator', { body: { name: 'oda', role: 'viewer' } }))).toBe('NAME_TAKEN');
    const said = (await marit('listHistory', { query: { subject: 'operator:oda' } })).items.map((one) => one.kind);
    expect(said).toEqual(['operator_removed', 'operator_changed', 'operator_changed', 'signed_in', 'operator_joined', 'operator_invited']);
  });

  test(
    'an administrator who can sign in is always left, even when two remove each other at once',
    async () => {
      for (const one of (await marit('listOperators')).items)
        if (one.name !== 'marit' && one.role === 'administrator' && one.labels.length === 0) await marit('removeOperator', { params: { operator: one.name } });
      const self = { params: { operator: 'marit' } };
      expect(await codeOf(() => marit('removeOperator', self))).toBe('LAST_ADMINISTRATOR');
      expect(await codeOf(() => marit('changeOperator', { ...self, body: { role: 'operator' } }))).toBe('LAST_ADMINISTRATOR');
      expect(await codeOf(() => marit('changeOperator', { ...self, body: { labels: ['team=deck'] } }))).toBe('LAST_ADMINISTRATOR');
      expect(await codeOf(() => marit('changeOperator', { ...self, body: { disabled: true } }))).toBe('LAST_ADMINISTRATOR');
      for (let round = 0; round < 5; round += 1) {
        const other = await newcomer(`rival-${round}`, 'administrator');
        const outcomes = await Promise.all([
          codeOf(() => marit('changeOperator', { params: { operator: `rival-${round}` }, body: { role: 'viewer' } })),
          codeOf(() => other('changeOperator', { ...self, body: { role: 'viewer' } })),
        ]);
        expect(outcomes.filter((one) => one === 'done').length).toBe(1);
        // Whoever lost is made an administrator again by whoever is left.
        if (outcomes[1] === 'done') await other('changeOperator', { ...self, body: { role: 'administrator' } });
        await marit('removeOperator', { params: { operator: `rival-${round}` } });
      }
    },
    LONG,
  );

  test('a sensitive action asks again after ten minutes; a personal token never may', async () => {
    await database.write(
      "UPDATE sessions s JOIN operators o ON o.id = s.operator_id SET s.confirmed_at = UTC_TIMESTAMP(3) - INTERVAL 11 MINUTE WHERE o.name = 'marit'",
    );
    const invite = (call: ApiClient, name: string) => () => call('inviteOperator', { body: { name, role: 'viewer' as const } });
    expect(await codeOf(invite(marit, 'later'))).toBe('CONFIRMATION_NEEDED');
    expect(await marit('startConfirmation')).toEqual({ password: true, methods: [], passkey_options: null });
    expect(await codeOf(() => marit('confirmIdentity', { body: { password: 'not this one' } }))).toBe('PASSWORD_WRONG');
    await marit('confirmIdentity', { body: { password: PASSWORD } });
    expect(await codeOf(invite(marit, 'later'))).toBe('done');
    const { token } = await marit('addPersonalToken', { body: { name: 'nightly', role: 'administrator', days: 1 } });
    expect(await codeOf(invite(as(token), 'never'))).toBe('CONFIRMATION_NEEDED');
    expect(await codeOf(() => as(token)('confirmIdentity', { body: { password: PASSWORD } }))).toBe('CONFIRMATION_NEEDED');
  });

  test('a personal token can do no more than it says and no more than its owner, shows its last use, and ends when it is revoked', async () => {
    const owner = await newcomer('scripter', 'operator');
    expect(await codeOf(() => owner('addPersonalToken', { body: { name: 'too-much', role: 'administrator' } }))).toBe('INPUT_INVALID');
    const reading = await owner('addPersonalToken', { body: { name: 'reading', role: 'viewer' } });
    const writing = await owner('addPersonalToken', { body: { name: 'writing', role: 'operator' } });
    expect(reading.token).toMatch(/^rkp_/);
    expect(await tried('startRehearsal', reading.token)).toBe('ROLE_TOO_LOW');
    expect(await tried('startRehearsal', writing.token)).toBe('INPUT_INVALID');
    await marit('changeOperator', { params: { operator: 'scripter' }, body: { role: 'viewer' } });
    expect(await tried('startRehearsal', writing.token)).toBe('ROLE_TOO_LOW');
    const used = (await owner('showAccount')).sessions.find((one) => one.name === 'writing');
    expect(used).toMatchObject({ kind: 'token', role: 'operator', address: '127.0.0.1' });
    await marit('endOperatorSession', { params: { operator: 'scripter', session: writing.id } });
    expect(await tried('showSession', writing.token)).toBe('SIGN_IN_NEEDED');
    expect(JSON.stringify(await marit('listHistory', { query: { subject: 'operator:scripter' } }))).not.toContain(writing.token.slice(4, 20));
    // Scripts use it with rk.
    const home = newFolder();
    const ran = await rk(['--url', service.url, 'connection', 'list', '--output', 'json'], { home, environment: { RUSTY_KETTLE_TOKEN: reading.token } });
    expect([ran.code, JSON.parse(ran.out).items.length]).toEqual([0, (await marit('listConnections')).total]);
    removeFolder(home);
  });
});

describe('second factors', () => {
  const codeNow = (secret: string, steps = 0) => generate({ secret, epoch: Math.floor(Date.now() / 1000) + 30 * steps });
  const secondStep = async (name: string): Promise<string> => {
    try {
      await anyone()('signIn', { body: { name, password: PASSWORD, keeps: 'token' } });
      return '';
    } catch (error) {
      return error instanceof ProblemError ? (error.problem.second_factor?.ticket ?? error.problem.code) : '';
    }
  };

  test(
    'an authenticator app: a code works once, a recovery code once, five wrong ones end the sign-in',
    async () => {
      const person = await newcomer('careful', 'viewer');
      const { factor, secret, uri } = await person('startAuthenticator', { body: { name: 'phone' } });
      expect(uri).toMatch(/^otpauth:\/\/totp\/.*careful/);
      expect(await secondStep('careful')).toBe(''); // not before it is verified
      expect(await codeOf(() => person('finishSecondFactor', { params: { factor }, body: { code: '000000' } }))).toBe('SECOND_FACTOR_WRONG');
      const first = await codeNow(secret);
      const { recovery_codes: codes } = await person('finishSecondFactor', { params: { factor }, body: { code: first } });
      expect(codes).toHaveLength(10);
      const ticket = await secondStep('careful');
      const finish = (using: string, code: string) => codeOf(() => anyone()('finishSignIn', { body: { ticket: using, code } }));
      expect(await finish(ticket, first)).toBe('SECOND_FACTOR_WRONG'); // it was used
      expect(await finish(ticket, await codeNow(secret, 1))).toBe('done'); // a clock that is ahead
      expect(await finish(ticket, codes[0] ?? '')).toBe('TICKET_SPENT');
      const again = await secondStep('careful');
      expect(await finish(again, codes[0] ?? '')).toBe('done');
      const third = await secondStep('careful');
      expect(await finish(third, codes[0] ?? '')).toBe('SECOND_FACTOR_WRONG');
      for (let wrong = 0; wrong < 4; wrong += 1) await finish(third, '123456');
      expect(await finish(third, codes[1] ?? '')).toBe('TICKET_SPENT');
      // Confirming asks for both.
      await database.write('UPDATE sessions SET confirmed_at = NULL WHERE hash = UNHEX(SHA2($1, 256))', [person.token]);
      expect(await person('startConfirmation')).toMatchObject({ password: true, methods: ['code'] });
      expect(await codeOf(() => person('confirmIdentity', { body: { password: PASSWORD } }))).toBe('SECOND_FACTOR_WRONG');
      expect(await codeOf(() => person('confirmIdentity', { body: { password: PASSWORD, code: codes[2] ?? '' } }))).toBe('done');
      // Whoever lost the phone and the codes gets a link.
      const { url } = await marit('resetOperator', { params: { operator: 'careful' } });
      await anyone()('joinOperator', { body: { ticket: url.split('/').at(-1) ?? '', password: PASSWORD } });
      expect(await codeOf(() => person('showSession'))).toBe('SIGN_IN_NEEDED');
      expect(await secondStep('careful')).toBe('');
    },
    LONG,
  );

  test(
    'whoever knows the password and guesses codes keeps nobody out: the owner confirms, signs in from a known device, and uses a recovery code',
    async () => {
      const person = await newcomer('guessed', 'viewer');
      const { device } = await anyone()('signIn', { body: { name: 'guessed', password: PASSWORD, keeps: 'token' } });
      const { factor, secret } = await person('startAuthenticator', { body: { name: 'phone' } });
      const { recovery_codes: codes } = await person('finishSecondFactor', { params: { factor }, body: { code: await codeNow(secret) } });
      let last = '';
      for (let ticket = 0; ticket < 6 && last !== 'SIGN_IN_THROTTLED'; ticket += 1) {
        const using = await secondStep('guessed');
        for (let wrong = 0; wrong < 5; wrong += 1) last = await codeOf(() => anyone()('finishSignIn', { body: { ticket: using, code: '123456' } }));
      }
      expect(last).toBe('SIGN_IN_THROTTLED');
      await database.write('UPDATE sessions SET confirmed_at = NULL WHERE hash = UNHEX(SHA2($1, 256))', [person.token]);
      expect(await codeOf(() => person('confirmIdentity', { body: { password: PASSWORD, code: codes[0] ?? '' } }))).toBe('done');
      const known = await anyone()('signIn', { body: { name: 'guessed', password: PASSWORD, keeps: 'token', device } }).catch(
        (error: ProblemError) => error.problem,
      );
      const ticket = (known as { second_factor?: { ticket: string } }).second_factor?.ticket ?? '';
      expect(await codeOf(() => anyone()('finishSignIn', { body: { ticket, code: codes[1] ?? '', device } }))).toBe('done');
    },
    LONG,
  );

  test(
    'whoever controls the machine gets the last administrator back in',
    async () => {
      const { factor, secret } = await marit('startAuthenticator', { body: { name: 'lost phone' } });
      await marit('finishSecondFactor', { params: { factor }, body: { code: await codeNow(secret) } });
      const folder = newFolder();
      const beside = await startService({ databaseUrl, masterKey, folder, publicUrl: service.url, environment: { RUSTY_KETTLE_RESCUE: 'marit' } });
      const link = readFileSync(join(folder, 'rescue.link'), 'utf8').trim();
      await beside.stop();
      await anyone()('joinOperator', { body: { ticket: link.split('/').at(-1) ?? '', password: PASSWORD } });
      const { token = '', role } = await anyone()('signIn', { body: { name: 'marit', password: PASSWORD, keeps: 'token' } });
      expect(role).toBe('administrator');
      marit = Object.assign(as(token), { token });
      removeFolder(folder);
    },
    LONG,
  );
});

test(
  'passkeys, in the browser: set up, asked for at sign-in, and for a sensitive action',
  async () => {
    const url = await newDatabase();
    const port = await freePort(); // another port is another origin
    const own = await startService({ databaseUrl: url, port, publicUrl: `http://localhost:${port}` });
    await signIn(own);
    const opened = await openBrowser();
    const page = await opened.context.newPage();
    try {
      const wire = await page.context().newCDPSession(page);
      await wire.send('WebAuthn.enable');
      await wire.send('WebAuthn.addVirtualAuthenticator', {
        options: {
          protocol: 'ctap2',
          transport: 'usb',
          hasResidentKey: false,
          hasUserVerification: true,
          isUserVerified: true,
          automaticPresenceSimulation: true,
        },
      });
      const address = `http://localhost:${port}`;
      await page.goto(`${address}/#/settings/account`);
      await page.getByLabel('Operator name').fill('marit');
      await page.getByLabel('Password').fill(PASSWORD);
      await page.getByRole('button', { name: 'Sign in' }).click();
      await page.getByRole('button', { name: 'Add passkey' }).click();
      await page.getByText('Recovery codes: each works once').waitFor({ timeout: LONG });
      await page.getByRole('button', { name: 'Sign out', exact: true }).click();
      await page.getByLabel('Operator name').fill('marit');
      await page.getByLabel('Password').fill(PASSWORD);
      await page.getByRole('button', { name: 'Sign in' }).click();
      await page.getByRole('button', { name: 'Use passkey' }).click();
      await page.getByRole('heading', { name: 'Second factors' }).waitFor({ timeout: LONG });
      const store = openDatabase(url, 1);
      await store.write('UPDATE sessions SET confirmed_at = NULL');
      await store.close();
      await page.getByLabel('Name', { exact: true }).last().fill('nightly');
      await page.getByRole('button', { name: 'Add token' }).click();
      await page.getByLabel('Your password').fill(PASSWORD);
      await page.getByRole('alertdialog').getByRole('button', { name: 'Use passkey' }).click();
      await page.getByText('Copy the token now').waitFor({ timeout: LONG });
      expect(await eventually(async () => (await page.getByText('rkp_').count()) > 0)).toBe(true);
    } finally {
      await opened.close();
      await own.stop();
      removeFolder(own.folder);
    }
  },
  3 * LONG,
);
