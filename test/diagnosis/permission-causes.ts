import { openDatabase } from '../../src/service/store/database.ts';
import { makeCertificate } from '../../testing/certificate.ts';
import { at, BASIC, byCertificate, type Case, call, callIt, databaseUrl, make, ofFirstCall, open, problem, ROSTERS, standinClient, TENANT } from './rig.ts';

/** What the token lacks: audience, certificate, role, right, scope. */
export const PERMISSION_CASES: Case[] = [
  {
    name: 'a token for another audience',
    cause: 'audience_wrong',
    verdict: 'token_refused',
    side: 'client',
    evidence: /The token names the audience pm:dir:crew/,
    produce: async () => ofFirstCall(open(await make('piermaster', ['staff.read'], { type: 'service_account', placeholders: { audience: 'pm:dir:crew' } }))),
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
      return (await call('probeConnection', { params: { connection: made.name }, body: { capability: 'writing', effects: true } })).diagnosis;
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
    name: 'a certificate that has expired',
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
    name: 'a scope that was never requested',
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
];
