import { afterAll, beforeAll, expect, test } from 'vitest';
import type { ApiClient } from '../src/api/client.ts';
import type { ConsentOutcome } from '../src/api/connections.ts';
import type { Diagnosis } from '../src/api/diagnosis.ts';
import type { BodyOf } from '../src/api/operations.ts';
import { CAUSES } from '../src/core/diagnosis/causes.ts';
import { openDatabase } from '../src/service/store/database.ts';
import { makeCertificate } from '../testing/certificate.ts';
import { type PlayOptions, playDevice, playOpened, registerAtStandin } from '../testing/consent.ts';
import { eventually, removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { type StandinUnderTest, startUnderTest } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Everything that goes wrong with a consent, a renewal or a call, really produced by a stand-in, and what is said of it. */
const NAMES = ['eelgrass', 'berthline', 'ledgerfin', 'quaymaster', 'bosunry', 'notchboard', 'oakum', 'deckhail', 'wharfpost'] as const;
type Name = (typeof NAMES)[number];
const at = {} as Record<Name, StandinUnderTest>;
let [service, call, databaseUrl] = [] as unknown as [ServiceUnderTest, ApiClient, string];
let count = 0;
const seenCauses = new Map<string, number>();

beforeAll(async () => {
  databaseUrl = await newDatabase();
  service = await startService({ databaseUrl, environment: { RUSTY_KETTLE_DEADLINE_MS: '7000' } }); // a starved machine is no answer lost in flight
  call = await signIn(service);
  for (const name of NAMES) {
    at[name] = await startUnderTest(name, 3600);
    await call('addProvider', { body: { document: at[name].definitionText } });
  }
}, 120_000);
afterAll(async () => {
  process.stdout.write(`causes produced: ${[...seenCauses].map(([cause, times]) => `${cause} ${times}`).join(', ')}\n`);
  await service.stop();
  for (const standin of Object.values(at)) await standin.stop();
  removeFolder(service.folder);
});

interface Made {
  name: string;
  provider: Name;
  client: string;
  id: string;
  secret: string;
}
interface MakeOptions {
  scopes?: string[];
  type?: 'service_account' | 'printed_code' | 'desktop';
  placeholders?: Record<string, string>;
  /** Values of the connection. */
  own?: Record<string, string>;
  grantType?: 'jwt_bearer';
  account?: string;
  unlisted?: boolean;
  /** Registered at another place than the client says. */
  registerAt?: string;
  certificate?: string;
  approval?: 'asked';
  listed?: string;
}

/** A client of its own, registered at the stand-in with everything opened, and a connection through it. */
async function make(provider: Name, scopes: string[], options: MakeOptions = {}): Promise<Made> {
  count += 1;
  const client = `c${count}`;
  const { type, placeholders } = options;
  const draft = await call('addClient', { body: { provider, name: client, ...(type && { type }), ...(placeholders && { placeholders }) } });
  const page = options.registerAt ?? draft.registration_page ?? at[provider].origin;
  const { listed, approval } = options;
  const there = await registerAtStandin(page, client, draft.redirect_uri, options.certificate ?? '', {
    ...(listed && { listed }),
    ...(approval && { approval }),
  });
  const params = { provider, client };
  await call('changeClient', { params, body: { revision: draft.revision, client_id: there.id } });
  if (options.certificate !== undefined || options.grantType === 'jwt_bearer') {
    const { revision } = await call('showClient', { params });
    await call('changeClient', { params, body: { revision, method: 'private_key_jwt' } });
  } else await call('addSecret', { params, body: { secret: there.secret } });
  const body: BodyOf<'addConnection'> = {
    name: `k${count}`,
    provider,
    client,
    scopes,
    expected_account: options.account ?? null,
    allow_unlisted_scopes: options.unlisted ?? false,
    ...(options.grantType && { grant_type: options.grantType }),
    ...(options.own && { placeholders: options.own }),
  };
  await call('addConnection', { body });
  return { name: body.name, provider, client, ...there };
}

const finished = (consent: string): Promise<ConsentOutcome> =>
  eventually(async () => {
    const seen = await call('showConsent', { params: { consent } });
    return seen.phase === 'done' || seen.phase === 'failed' ? seen : null;
  }, 30_000);
async function open(made: Made, play: PlayOptions = {}, body: BodyOf<'openConnection'> = {}): Promise<ConsentOutcome> {
  const opened = await call('openConnection', { params: { connection: made.name }, body });
  if (!opened.by_itself) await playOpened(opened, (consent, pasted) => call('answerConsent', { params: { consent }, body: { pasted } }), play);
  return finished(opened.id);
}
const problem = async (outcome: Promise<ConsentOutcome>) => (await outcome).problem?.diagnosis;
const ofFirstCall = async (outcome: Promise<ConsentOutcome>) => (await outcome).first_call?.diagnosis;
const show = (made: Made) => call('showConnection', { params: { connection: made.name } });
const callIt = async (made: Made, path: string) => (await call('callConnection', { params: { connection: made.name }, body: { path } })).diagnosis;
/** Opens, is stopped on a page of the provider, and pastes what stands there. */
async function stopped(made: Made, play: PlayOptions = {}): Promise<Diagnosis | null | undefined> {
  const opened = await call('openConnection', { params: { connection: made.name } });
  const played = await playOpened(opened, () => Promise.reject(new Error('it was not stopped')), play);
  const words = played.body
    .replace(/<style>[\s\S]*?<\/style>/, '')
    .replace(/<[^>]+>/g, ' ')
    .trim();
  return (await call('explainPage', { params: { consent: opened.id }, body: { page: words } })).page_diagnosis;
}
const standinClient = (made: Made) => {
  const found = at[made.provider].store.state.clients[made.id];
  if (!found) throw new Error('the stand-in does not know the client');
  return found;
};
const wrongSecret = (made: Made, secret: string) =>
  call('addSecret', { params: { provider: made.provider, client: made.client }, body: { secret, at_once: true, take_as_is: true } });
async function printed(made: Made): Promise<string> {
  const response = await fetch(`http://127.0.0.1:${at.quaymaster.port}/standin/printed-codes`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ client_id: made.id, account: 'eg-1042' }),
  });
  return ((await response.json()) as { code: string }).code;
}
async function give(made: Made, code: string): Promise<ConsentOutcome> {
  const opened = await call('openConnection', { params: { connection: made.name } });
  await call('giveCode', { params: { consent: opened.id }, body: { code } });
  return finished(opened.id);
}
/** A provider whose definition here differs from what its stand-in does. */
async function edited(provider: Name, name: string, change: (text: string) => string): Promise<string> {
  await call('addProvider', { body: { document: change(at[provider].definitionText).replace(/^name: .*$/m, `name: ${name}`) } });
  return name;
}
const BASIC = ['tables.read', 'profile', 'offline_access'];
const NOTCH = ['read', 'keep'];
const ROSTERS = ['rosters:read', 'whoami', 'offline_access'];
const QUAY = { audience: 'qm:dir:staff' };
const TENANT = { tenant: 'lf204816' };

interface Case {
  name: string;
  cause: Diagnosis['cause'];
  verdict: Diagnosis['verdict'];
  half?: Diagnosis['half'];
  side: Diagnosis['side'];
  evidence?: RegExp;
  produce(): Promise<Diagnosis | null | undefined>;
}
const CASES: Case[] = [
  {
    name: 'a wrong secret',
    cause: 'secret_wrong',
    verdict: 'no_token',
    side: 'client',
    evidence: /HTTP 401, invalid_client/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      await wrongSecret(made, 'not-the-secret');
      return problem(open(made));
    },
  },
  {
    name: 'the wrong region',
    cause: 'client_elsewhere',
    verdict: 'no_token',
    side: 'client',
    evidence: /“south”; there is also north/,
    async produce() {
      const made = await make('berthline', ['bookings.read', 'profile'], { placeholders: { region: 'south' }, registerAt: at.berthline.origin });
      return stopped(made);
    },
  },
  {
    name: 'the wrong region, seen at the token endpoint',
    cause: 'client_elsewhere',
    verdict: 'no_token',
    side: 'client',
    evidence: /“north”; there is also south/,
    async produce() {
      const made = await make('berthline', ['bookings.read', 'profile'], { placeholders: { region: 'north' } });
      const opened = await call('openConnection', { params: { connection: made.name } });
      const away = await playOpened(opened, async () => undefined, { stopBeforeCallback: true });
      standinClient(made).realm = 'south'; // between consent and exchange, as if it had never been registered in the north
      await call('answerConsent', { params: { consent: opened.id }, body: { pasted: away.endedAt } });
      return problem(finished(opened.id));
    },
  },
  {
    name: 'the wrong tenant',
    cause: 'client_elsewhere',
    verdict: 'no_token',
    side: 'client',
    evidence: /Tenant “lf999999”/,
    async produce() {
      const made = await make('ledgerfin', ['books.read'], { placeholders: { tenant: 'lf999999' }, registerAt: at.ledgerfin.origin });
      return problem(open(made));
    },
  },
  {
    name: 'a retired secret',
    cause: 'secret_retired',
    verdict: 'no_token',
    side: 'client',
    evidence: /The provider took it on \d{4}/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      expect((await open(made)).phase).toBe('done');
      await at.eelgrass.order('secrets', { client_id: made.id, retire_others: true });
      return problem(open(made));
    },
  },
  {
    name: 'form-encoding of Basic',
    cause: 'basic_encoding',
    verdict: 'no_token',
    side: 'client',
    evidence: /they were sent encoded/,
    async produce() {
      const provider = await edited('notchboard', 'notchboard-encoded', (text) => text.replace('basic_encoding: raw', 'basic_encoding: form'));
      const made = await make(provider as Name, NOTCH, { registerAt: at.notchboard.origin });
      const record = at.notchboard.store.state.clients[made.id];
      if (record?.secrets[0]) record.secrets[0].value = 'nb/50%+more';
      await wrongSecret(made, 'nb/50%+more');
      return problem(open(made));
    },
  },
  {
    name: 'the redirect URI differs: their page stops',
    cause: 'redirect_uri_differs',
    verdict: 'no_token',
    side: 'client',
    evidence: /slash too many/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      const there = standinClient(made);
      there.redirectUris = [`${there.redirectUris[0]}/`];
      await call('checkRedirectUri', { params: { provider: 'eelgrass', client: made.client }, body: { registered: there.redirectUris[0] ?? '' } });
      return stopped(made);
    },
  },
  {
    name: 'scopes joined by the wrong delimiter',
    cause: 'scope_delimiter',
    verdict: 'no_token',
    side: 'ours',
    evidence: /read as one/,
    async produce() {
      const provider = await edited('notchboard', 'notchboard-spaces', (text) => text.replace('scope_delimiter: ","', 'scope_delimiter: " "'));
      return problem(open(await make(provider as Name, NOTCH, { registerAt: at.notchboard.origin })));
    },
  },
  {
    name: 'a misspelt scope',
    cause: 'scope_misspelt',
    verdict: 'no_token',
    side: 'ours',
    evidence: /Did you mean “tables.read”/,
    produce: async () => problem(open(await make('eelgrass', ['tabels.read', 'profile'], { unlisted: true }))),
  },
  {
    name: 'a scope that is not registered for the client',
    cause: 'scope_unregistered',
    verdict: 'no_token',
    side: 'client',
    evidence: /tables\.write/,
    async produce() {
      const made = await make('eelgrass', ['tables.write', 'profile']);
      standinClient(made).scopes = ['tables.read', 'profile'];
      return problem(open(made));
    },
  },
  {
    name: 'the API is not opened to the client',
    cause: 'api_not_opened',
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    async produce() {
      const made = await make('eelgrass', BASIC);
      standinClient(made).apis = [];
      return ofFirstCall(open(made));
    },
  },
  {
    name: 'the same in the provider\u2019s own words',
    cause: 'api_not_opened',
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    async produce() {
      const made = await make('bosunry', ROSTERS);
      standinClient(made).apis = [];
      return ofFirstCall(open(made));
    },
  },
  {
    name: 'an account that is not listed',
    cause: 'account_not_listed',
    verdict: 'no_token',
    side: 'client',
    produce: async () => stopped(await make('bosunry', ROSTERS, { listed: 'joss.tarrant@saltmarsh.example' })),
  },
  {
    name: 'an account of the wrong kind',
    cause: 'account_kind_wrong',
    verdict: 'right_missing',
    half: 'person',
    side: 'person',
    produce: async () => stopped(await make('bosunry', ROSTERS), { account: 'eg-2001' }),
  },
  {
    name: 'the person refuses',
    cause: 'consent_denied',
    verdict: 'no_token',
    side: 'person',
    evidence: /access_denied/,
    produce: async () => problem(open(await make('eelgrass', BASIC), { refuse: true })),
  },
  {
    name: 'the person refuses on another device',
    cause: 'consent_denied',
    verdict: 'no_token',
    side: 'person',
    async produce() {
      const made = await make('notchboard', NOTCH);
      const { id } = await call('openConnection', { params: { connection: made.name }, body: { way: 'device' } });
      const { device } = await call('showConsent', { params: { consent: id } });
      await playDevice(device?.page ?? '', device?.user_code ?? '', { refuse: true });
      return problem(finished(id));
    },
  },
  {
    name: 'the organisation has not agreed',
    cause: 'organisation_not_agreed',
    verdict: 'right_missing',
    half: 'organisation',
    side: 'organisation',
    evidence: /consent_required/,
    produce: async () => problem(open(await make('eelgrass', ['tables.all', 'profile']))),
  },
  {
    name: 'the organisation has not agreed to a client\u2019s own token',
    cause: 'organisation_not_agreed',
    verdict: 'right_missing',
    half: 'organisation',
    side: 'organisation',
    produce: async () => problem(open(await make('quaymaster', ['staff.read', 'staff.phone'], { type: 'service_account', placeholders: QUAY }))),
  },
  {
    name: 'a code that is too old',
    cause: 'code_expired',
    verdict: 'no_token',
    side: 'person',
    evidence: /The code has expired/,
    async produce() {
      const made = await make('quaymaster', ['staff.read'], { type: 'printed_code', placeholders: QUAY });
      const code = await printed(made);
      await at.quaymaster.order('skew', { skew_ms: 300_000 });
      const said = await problem(give(made, code));
      await at.quaymaster.order('skew', { skew_ms: 0 });
      return said;
    },
  },
  {
    name: 'a device code that ran out',
    cause: 'code_expired',
    verdict: 'no_token',
    side: 'person',
    evidence: /expired_token/,
    async produce() {
      const made = await make('notchboard', NOTCH);
      const { id } = await call('openConnection', { params: { connection: made.name }, body: { way: 'device' } });
      await at.notchboard.order('skew', { skew_ms: 400_000 });
      const said = await problem(finished(id));
      await at.notchboard.order('skew', { skew_ms: 0 });
      return said;
    },
  },
  {
    name: 'a code that somebody used before',
    cause: 'code_used',
    verdict: 'no_token',
    side: 'person',
    evidence: /used before/,
    async produce() {
      const made = await make('quaymaster', ['staff.read'], { type: 'printed_code', placeholders: QUAY });
      const code = await printed(made);
      const form = new URLSearchParams({ grant_type: 'authorization_code', code, client_id: made.id, client_secret: made.secret, audience: QUAY.audience });
      const stolen = await fetch(`http://127.0.0.1:${at.quaymaster.port}/token`, {
        method: 'POST',
        body: form,
        headers: { 'user-agent': 'saltmarsh-directory/1.0' },
      });
      expect(stolen.status).toBe(200);
      return problem(give(made, code));
    },
  },
  {
    name: 'no refresh token',
    cause: 'no_refresh_token',
    verdict: 'works',
    side: 'client',
    async produce() {
      const made = await make('eelgrass', ['tables.read', 'profile']);
      expect(await open(made)).toMatchObject({
        phase: 'done',
        refresh_token: false,
        live: { verdict: 'ends', says: expect.stringContaining('No refresh token') },
      });
      return (await show(made)).diagnosis;
    },
  },
  {
    name: 'a token for another audience',
    cause: 'audience_wrong',
    verdict: 'token_refused',
    side: 'client',
    evidence: /The token names the audience qm:dir:crew/,
    produce: async () => ofFirstCall(open(await make('quaymaster', ['staff.read'], { type: 'service_account', placeholders: { audience: 'qm:dir:crew' } }))),
  },
  {
    name: 'a secret where a certificate is needed',
    cause: 'certificate_needed',
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    async produce() {
      const made = await make('ledgerfin', ['books.read', 'books.post'], { placeholders: TENANT });
      await open(made);
      return (await call('probeConnection', { params: { connection: made.name }, body: { ability: 'writing', effects: true } })).diagnosis;
    },
  },
  {
    name: 'a certificate that the provider does not know',
    cause: 'certificate_unknown',
    verdict: 'no_token',
    side: 'client',
    async produce() {
      const made = await make('ledgerfin', ['books.read'], { placeholders: TENANT, certificate: (await makeCertificate('known-there')).certificate });
      await call('addSecret', {
        params: { provider: 'ledgerfin', client: made.client },
        body: { kind: 'certificate', secret: (await makeCertificate('unknown-there')).pem },
      });
      return problem(open(made));
    },
  },
  {
    name: 'a certificate that has run out',
    cause: 'certificate_ended',
    verdict: 'no_token',
    side: 'client',
    evidence: /The certificate ended on/,
    async produce() {
      const made = await byCertificate(['books.read'], undefined, 1);
      const database = openDatabase(databaseUrl, 1);
      const clients = 'SELECT id FROM clients WHERE name = $1';
      await database.write(`UPDATE client_secrets SET ends_at = UTC_TIMESTAMP(3) - INTERVAL 1 DAY WHERE client_id = (${clients})`, [made.client]); // two days go by
      await database.close();
      await at.ledgerfin.order('skew', { skew_ms: 2 * 86_400_000 });
      const said = await problem(open(made));
      await at.ledgerfin.order('skew', { skew_ms: 0 });
      return said;
    },
  },
  {
    name: 'clocks that differ',
    cause: 'clock_wrong',
    verdict: 'ours',
    side: 'ours',
    evidence: /ahead of ours/,
    async produce() {
      const made = await byCertificate(['books.read']);
      await at.ledgerfin.order('skew', { skew_ms: 900_000 });
      const said = await problem(open(made));
      await at.ledgerfin.order('skew', { skew_ms: 0 });
      return said;
    },
  },
  {
    name: 'a service account that may not act for that account',
    cause: 'subject_refused',
    verdict: 'no_token',
    side: 'client',
    produce: async () => problem(open(await byCertificate(['books.read'], 'nobody@saltmarsh.example'))),
  },
  {
    name: 'a service user without the role',
    cause: 'role_missing',
    verdict: 'right_missing',
    half: 'service_user',
    side: 'client',
    evidence: /Announcer/,
    async produce() {
      const made = await make('deckhail', ['hear', 'offline_access'], { type: 'desktop' });
      standinClient(made).serviceUser = { name: 'Deck', role: 'Listener' };
      return ofFirstCall(open(made));
    },
  },
  {
    name: 'an account without the right',
    cause: 'person_lacks_right',
    verdict: 'right_missing',
    half: 'person',
    side: 'person',
    evidence: /holds a scope that allows it: calendars\.read/,
    async produce() {
      const made = await make('eelgrass', [...BASIC, 'calendars.read']);
      await open(made, { account: 'eg-2001' });
      return callIt(made, '/calendars');
    },
  },
  {
    name: 'a scope that the person unticked',
    cause: 'scope_unticked',
    verdict: 'right_missing',
    half: 'person',
    side: 'person',
    evidence: /rosters:read/,
    produce: async () => ofFirstCall(open(await make('bosunry', ROSTERS), { untick: ['rosters:read'] })),
  },
  {
    name: 'a scope that was never asked for',
    cause: 'scope_missing',
    verdict: 'right_missing',
    half: 'client',
    side: 'client',
    evidence: /calendars/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      return callIt(made, '/calendars');
    },
  },
  {
    name: 'an error inside an answer that looks good',
    cause: 'error_inside',
    verdict: 'unknown',
    side: 'caller',
    async produce() {
      const made = await make('wharfpost', ['parcels'], { own: { account: '40017788' } });
      await open(made);
      await at.wharfpost.order('faults', { at: 'api', kind: 'text', status: 200, text: '{"fault":{"code":"constructor"}}' });
      return callIt(made, '/parcels');
    },
  },
  {
    name: 'an API that the provider gives no token for',
    cause: 'resource_refused',
    verdict: 'no_token',
    side: 'client',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await at.eelgrass.order('faults', { at: 'token', kind: 'oauth_error', status: 400, error: 'invalid_target' });
      return problem(open(made));
    },
  },
  {
    name: 'a token that is bound to a key',
    cause: 'requirement_unsupported',
    verdict: 'ours',
    side: 'ours',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await at.eelgrass.order('faults', { at: 'token', kind: 'text', status: 200, text: '{"access_token":"a.b","token_type":"DPoP","expires_in":60}' });
      return problem(open(made));
    },
  },
  {
    name: 'the quota is used up',
    cause: 'quota_used_up',
    verdict: 'provider_trouble',
    side: 'caller',
    evidence: /wait 33 s/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      await at.eelgrass.order('faults', { at: 'api', kind: 'status', status: 429, retry_after_seconds: 33 });
      return callIt(made, '/tables');
    },
  },
  {
    name: 'approval that has not come, on their page',
    cause: 'approval_pending',
    verdict: 'no_token',
    side: 'provider',
    produce: async () => stopped(await make('oakum', ['/certificates/read'], { approval: 'asked' })),
  },
  {
    name: 'approval that has not come, at the token endpoint',
    cause: 'approval_pending',
    verdict: 'no_token',
    side: 'provider',
    evidence: /client_pending/,
    async produce() {
      const made = await make('oakum', ['/certificates/read']);
      const opened = await call('openConnection', { params: { connection: made.name } });
      const { Browser } = await import('../testing/consent.ts');
      const browser = new Browser();
      const away = await playOpened(opened, async () => undefined, { stopBeforeCallback: true }, browser);
      standinClient(made).approval.state = 'asked';
      await browser.fetch(away.endedAt);
      return problem(finished(opened.id));
    },
  },
  {
    name: 'a grant that was withdrawn',
    cause: 'grant_withdrawn',
    verdict: 'token_refused',
    side: 'person',
    evidence: /withdrawn/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      for (const grant of Object.values(at.eelgrass.store.state.grants)) if (grant.clientId === made.id) grant.withdrawn = true;
      await call('renewConnection', { params: { connection: made.name } });
      await eventually(async () => (await show(made)).state === 'needs_person', 20_000);
      return (await show(made)).diagnosis;
    },
  },
  {
    name: 'a token that the API does not take',
    cause: 'token_ended',
    verdict: 'token_refused',
    side: 'ours',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      await at.eelgrass.order('faults', { at: 'api', kind: 'oauth_error', status: 401, error: 'token expired' });
      return callIt(made, '/tables');
    },
  },
  {
    name: 'a token that the API does not know',
    cause: 'token_unknown',
    verdict: 'token_refused',
    side: 'provider',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      await at.eelgrass.order('faults', { at: 'api', kind: 'oauth_error', status: 401, error: 'invalid_token' });
      return callIt(made, '/tables');
    },
  },
  {
    name: 'a thing that does not exist',
    cause: 'thing_missing',
    verdict: 'thing_missing',
    side: 'caller',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      return callIt(made, '/tables/none/rows');
    },
  },
  {
    name: 'a call that the API does not understand',
    cause: 'call_wrong',
    verdict: 'call_wrong',
    side: 'caller',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await open(made);
      await at.eelgrass.order('faults', { at: 'api', kind: 'oauth_error', status: 422, error: 'bad_filter' });
      return callIt(made, '/tables');
    },
  },
  ...(
    [
      ['an answer lost in flight', 'answer_lost', { kind: 'cut_after' }],
      ['an answer that is a page', 'answer_unreadable', { kind: 'html' }],
      ['a provider in trouble', 'provider_down', { kind: 'status', status: 500 }],
      ['a provider that asks for patience', 'provider_busy', { kind: 'status', status: 503, retry_after_seconds: 5 }],
    ] as const
  ).map(
    ([name, cause, fault]): Case => ({
      name,
      cause,
      verdict: 'provider_trouble',
      side: 'provider',
      async produce() {
        const made = await make('eelgrass', BASIC);
        await at.eelgrass.order('faults', { at: 'token', ...fault });
        return problem(open(made));
      },
    }),
  ),
  {
    name: 'a request that the provider does not understand',
    cause: 'request_odd',
    verdict: 'no_token',
    side: 'client',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await at.eelgrass.order('faults', { at: 'token', kind: 'oauth_error', status: 400, error: 'invalid_request' });
      return problem(open(made));
    },
  },
  {
    name: 'a client that may not ask in this way',
    cause: 'client_not_allowed',
    verdict: 'no_token',
    side: 'client',
    async produce() {
      const made = await make('eelgrass', BASIC);
      await at.eelgrass.order('faults', { at: 'token', kind: 'oauth_error', status: 400, error: 'unauthorized_client' });
      return problem(open(made));
    },
  },
  {
    name: 'a page that says nothing known',
    cause: 'unknown',
    verdict: 'unknown',
    side: 'provider',
    evidence: /Something went sideways/,
    async produce() {
      const made = await make('eelgrass', BASIC);
      const opened = await call('openConnection', { params: { connection: made.name } });
      return (await call('explainPage', { params: { consent: opened.id }, body: { page: 'Something went sideways. Error 77-B.' } })).page_diagnosis;
    },
  },
  {
    name: 'a provider that cannot be reached',
    cause: 'provider_unreachable',
    verdict: 'provider_trouble',
    side: 'provider',
    async produce() {
      const made = await make('quaymaster', ['staff.read'], { type: 'service_account', placeholders: QUAY });
      await at.quaymaster.stop();
      return problem(open(made));
    },
  },
];

/** A client of Ledgerfin whose certificate is known there. */
async function byCertificate(scopes: string[], account?: string, days = 365): Promise<Made> {
  const certificate = await makeCertificate('books', { days });
  const options: MakeOptions = { placeholders: TENANT, certificate: certificate.certificate, ...(account && { account }) };
  const made = await make('ledgerfin', scopes, options);
  await call('addSecret', { params: { provider: 'ledgerfin', client: made.client }, body: { kind: 'certificate', secret: certificate.pem } });
  if (!account) return made;
  const name = `${made.name}-as`;
  await call('addConnection', { body: { name, provider: 'ledgerfin', client: made.client, scopes, grant_type: 'jwt_bearer', expected_account: account } });
  return { ...made, name };
}

test.each(CASES)('$name: $cause', async ({ cause, verdict, half, side, evidence, produce }) => {
  const said = await produce();
  expect(said).toMatchObject({ cause, verdict, half: half ?? null, side });
  expect(said?.remedy.length).toBeGreaterThan(20);
  if (evidence) expect(said?.evidence.join(' ')).toMatch(evidence);
  seenCauses.set(cause, (seenCauses.get(cause) ?? 0) + 1);
});

test('every cause of the table is produced, here or by the tests of forged answers', () => {
  const elsewhere = ['answer_forged', 'code_refused', 'approval_refused', 'service_failed']; // the last: test/broken-off.test.ts
  expect(CAUSES.filter((cause) => !seenCauses.has(cause) && !elsewhere.includes(cause))).toEqual([]);
});

test('a code pasted with spaces and line breaks is mended and said; one given before is not sent again', async () => {
  const made = await make('eelgrass', BASIC);
  const opened = await call('openConnection', { params: { connection: made.name }, body: { way: 'pasted' } });
  const { playAuthorization } = await import('../testing/consent.ts');
  const { endedAt } = await playAuthorization(opened.authorization_url ?? '', { stopBeforeCallback: true });
  const pasted = ` ${endedAt.slice(0, 60)}\n  ${endedAt.slice(60)} \r\n`;
  await call('answerConsent', { params: { consent: opened.id }, body: { pasted } });
  const outcome = await finished(opened.id);
  expect(outcome).toMatchObject({ phase: 'done', warnings: [expect.stringContaining('spaces or line breaks')] });
  const second = await call('openConnection', { params: { connection: made.name }, body: { way: 'pasted' } });
  const state = new URL(second.authorization_url ?? '').searchParams.get('state') ?? '';
  const replayed = new URL(endedAt);
  replayed.searchParams.set('state', state);
  await expect(call('answerConsent', { params: { consent: second.id }, body: { pasted: replayed.href } })).rejects.toMatchObject({
    problem: { code: 'INPUT_INVALID', detail: expect.stringContaining('given here before') },
  });
  expect(JSON.stringify(outcome.attempts)).toContain('masked');
  expect(JSON.stringify(outcome)).not.toContain(new URL(endedAt).searchParams.get('code'));
});

test('claims of a JWT access token are shown, the token is not', async () => {
  const restarted = await startUnderTest('quaymaster', 3600);
  try {
    const provider = 'quaymaster-again';
    await call('addProvider', { body: { document: restarted.definitionText.replace(/^name: .*$/m, `name: ${provider}`) } });
    const made = await make(provider as Name, ['staff.read'], { type: 'service_account', placeholders: QUAY, registerAt: restarted.origin });
    await open(made);
    const one = await show(made);
    expect(one.claims).toMatchObject({ aud: 'qm:dir:staff', scope: 'staff.read', client_id: made.id, exp: expect.stringMatching(/^\d{4}-/) });
    for (const token of Object.keys(restarted.store.state.accessTokens)) expect(JSON.stringify(one)).not.toContain(token);
  } finally {
    await restarted.stop();
  }
});
