import { expect, test } from 'vitest';
import type { ProviderDefinition } from '../provider/definition.ts';
import { PLAIN_DIALECT } from '../provider/dialect.ts';
import { PLAIN_REDIRECT_RULES, type RedirectRules } from '../provider/registration.ts';
import { localiseText } from '../provider/rehearsal.ts';
import { approvalQuestion, approvalSeen } from './approval-check.ts';
import { redirectRemarks } from './redirect-rules.ts';
import type { Evidence, TokenOutcome } from './token-answer.ts';

const check = {
  grant_type: 'authorization_code' as const,
  approved: ['invalid_grant'],
  requested: ['client_pending'],
  info_requested: ['client_question'],
  rejected: ['no_way'],
};
const definition = { dialect: { ...PLAIN_DIALECT, approval_check: check } } as ProviderDefinition;
const evidence = (error: string | null): Evidence => ({ status: error ? 400 : null, error, description: null, reason: error ? null : 'timeout', tookMs: 1 });

test.each<[string, TokenOutcome, string | null]>([
  [
    'a code that never existed is rejected as a code: the client is known and approved',
    { kind: 'refused_grant', evidence: evidence('invalid_grant') },
    'approved',
  ],
  ['nobody has decided', { kind: 'set_up_wrong', evidence: evidence('client_pending') }, 'requested'],
  ['they wait for an answer', { kind: 'set_up_wrong', evidence: evidence('client_question') }, 'info_requested'],
  ['rejected', { kind: 'set_up_wrong', evidence: evidence('no_way') }, 'rejected'],
  ['another error shows nothing of approval', { kind: 'client_refused', evidence: evidence('invalid_client') }, null],
  ['no answer shows nothing', { kind: 'unclear', evidence: evidence(null) }, null],
])('approval: %s', (_name, answer, wanted) => {
  expect(approvalSeen(definition, answer)).toBe(wanted);
  expect(approvalSeen({ dialect: PLAIN_DIALECT } as ProviderDefinition, answer)).toBeNull();
});

test('the question holds a code that nobody printed, and no redirect URI', () => {
  expect(approvalQuestion(definition, 'unused')).toMatchObject({ grantType: 'authorization_code', redirectUri: null, verifier: null });
  expect(approvalQuestion({ dialect: PLAIN_DIALECT } as ProviderDefinition, 'unused')).toBeNull();
});

test.each<[string, string, Partial<RedirectRules>, string[] | null, string[]]>([
  ['https in public', 'https://rk.ferry.example/cb', {}, null, []],
  ['http in public', 'http://rk.ferry.example/cb', {}, null, ['https']],
  ['http on this machine, which RFC 8252 lets pass', 'http://127.0.0.1:7420/cb', {}, null, []],
  ['http on this machine, where nothing but https goes', 'http://127.0.0.1:7420/cb', { https: 'always' }, null, ['https']],
  ['http where it does not matter', 'http://rk.ferry.example/cb', { https: 'not_needed' }, null, []],
  ['a bare address', 'https://192.0.2.7/cb', { ip: 'refused' }, null, ['ip']],
  ['a bare address of version 6', 'https://[2001:db8::1]/cb', { ip: 'loopback_only' }, null, ['ip']],
  ['a bare address of this machine', 'https://127.0.0.1/cb', { ip: 'loopback_only' }, null, []],
  ['nobody entered the domains', 'https://rk.ferry.example/cb', { listed_domain: true }, null, ['listed_domain']],
  ['another domain is listed', 'https://rk.ferry.example/cb', { listed_domain: true }, ['berry.example'], ['listed_domain']],
  ['a domain that only ends alike', 'https://rk.notferry.example/cb', { listed_domain: true }, ['ferry.example'], ['listed_domain']],
  ['the domain above it is listed', 'https://rk.ferry.example/cb', { listed_domain: true }, ['Ferry.example'], []],
  ['a fragment', 'https://rk.ferry.example/cb#x', {}, null, ['fragment']],
  ['no address at all', 'rk.ferry.example/cb', {}, null, ['fragment']],
])('redirect URI against the provider\u2019s rules: %s', (_name, uri, rules, domains, wanted) => {
  const remarks = redirectRemarks(uri, { ...PLAIN_REDIRECT_RULES, ...rules }, domains);
  expect(remarks.map((one) => one.rule)).toEqual(wanted);
  for (const one of remarks) expect([one.says.length > 10, one.remedy.length > 10]).toEqual([true, true]);
});

test.each([
  ['https://api.{region}.berthline.example/v1', 'http://api.{region}.berthline.localhost:9/v1'],
  ['https://login.desk.com:8443/x', 'http://login.desk.com.localhost:9/x'],
  ['http://id.eelgrass.localhost:7421/token', 'http://id.eelgrass.localhost:9/token'],
  ['"*.notchboard.example"', '"*.notchboard.localhost"'],
  ['see https://A.Desk.com.', 'see http://a.desk.com.localhost:9.'],
  ['http://127.0.0.1:7420/oauth/callback', 'http://127.0.0.1:7420/oauth/callback'],
])('a rehearsal moves %s to this machine', (from, to) => {
  expect(localiseText(from, 9)).toBe(to);
  expect(localiseText(localiseText(from, 8), 9)).toBe(to);
});
