import { expect } from 'vitest';
import { playOpened } from '../../src/standins/visitor.ts';
import {
  at,
  BASIC,
  type Case,
  call,
  edited,
  finished,
  make,
  type Name,
  NOTCH,
  ofFirstCall,
  open,
  problem,
  ROSTERS,
  standinClient,
  stopped,
  wrongSecret,
} from './rig.ts';

/** What is wrong with the client: its secret, its place, its redirect URI, its scopes, the APIs opened to it. */
export const CLIENT_CASES: Case[] = [
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
    cause: 'scope_separator',
    verdict: 'no_token',
    side: 'ours',
    evidence: /read as one/,
    async produce() {
      const provider = await edited('notchboard', 'notchboard-spaces', (text) => text.replace('scope_separator: ","', 'scope_separator: " "'));
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
];
