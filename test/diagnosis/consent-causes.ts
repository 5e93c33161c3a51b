import { expect } from 'vitest';
import { playDevice } from '../../src/standins/visitor.ts';
import { at, BASIC, type Case, call, finished, give, make, NOTCH, open, printed, problem, ROSTERS, STAFF, show, stopped } from './rig.ts';

/** What goes wrong at a consent: the account, the person's answer, the organization, the code. */
export const CONSENT_CASES: Case[] = [
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
    name: 'the person rejects',
    cause: 'consent_denied',
    verdict: 'no_token',
    side: 'person',
    evidence: /access_denied/,
    produce: async () => problem(open(await make('eelgrass', BASIC), { refuse: true })),
  },
  {
    name: 'the person rejects on another device',
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
    name: 'the organization has not consented',
    cause: 'admin_consent_missing',
    verdict: 'right_missing',
    half: 'organization',
    side: 'organization',
    evidence: /consent_required/,
    produce: async () => problem(open(await make('eelgrass', ['tables.all', 'profile']))),
  },
  {
    name: 'the organization has not consented to a client\u2019s own token',
    cause: 'admin_consent_missing',
    verdict: 'right_missing',
    half: 'organization',
    side: 'organization',
    produce: async () => problem(open(await make('piermaster', ['staff.read', 'staff.phone'], { type: 'service_account', placeholders: STAFF }))),
  },
  {
    name: 'a code that is too old',
    cause: 'code_expired',
    verdict: 'no_token',
    side: 'person',
    evidence: /The code has expired/,
    async produce() {
      const made = await make('piermaster', ['staff.read'], { type: 'printed_code', placeholders: STAFF });
      const code = await printed(made);
      await at.piermaster.order('skew', { skew_ms: 300_000 });
      const said = await problem(give(made, code));
      await at.piermaster.order('skew', { skew_ms: 0 });
      return said;
    },
  },
  {
    name: 'a device code that expired',
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
    name: 'a code that someone used before',
    cause: 'code_used',
    verdict: 'no_token',
    side: 'person',
    evidence: /used before/,
    async produce() {
      const made = await make('piermaster', ['staff.read'], { type: 'printed_code', placeholders: STAFF });
      const code = await printed(made);
      const form = new URLSearchParams({ grant_type: 'authorization_code', code, client_id: made.id, client_secret: made.secret, audience: STAFF.audience });
      const stolen = await fetch(`http://127.0.0.1:${at.piermaster.port}/token`, {
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
        lifetime: { verdict: 'ends', says: expect.stringContaining('No refresh token') },
      });
      return (await show(made)).diagnosis;
    },
  },
];
