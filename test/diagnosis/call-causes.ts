import { playOpened } from '../../src/standins/visitor.ts';
import { eventually } from '../../testing/waiting.ts';
import { at, BASIC, type Case, call, callIt, finished, make, open, problem, STAFF, show, standinClient, stopped } from './rig.ts';

/** What goes wrong afterwards: quotas, approval, ended grants and tokens, calls that are wrong, providers in trouble. */
export const CALL_CASES: Case[] = [
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
    produce: async () => stopped(await make('oakum', ['view.certificates'], { approval: 'requested' })),
  },
  {
    name: 'approval that has not come, at the token endpoint',
    cause: 'approval_pending',
    verdict: 'no_token',
    side: 'provider',
    evidence: /client_pending/,
    async produce() {
      const made = await make('oakum', ['view.certificates']);
      const opened = await call('openConnection', { params: { connection: made.name } });
      const { Browser } = await import('../../src/standins/visitor.ts');
      const browser = new Browser();
      const away = await playOpened(opened, async () => undefined, { stopBeforeCallback: true }, browser);
      standinClient(made).approval.state = 'requested';
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
      await eventually(async () => (await show(made)).state === 'action_needed', 20_000);
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
      const made = await make('piermaster', ['staff.read'], { type: 'service_account', placeholders: STAFF });
      await at.piermaster.stop();
      return problem(open(made));
    },
  },
];
