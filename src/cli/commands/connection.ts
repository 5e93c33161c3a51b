import type { Command } from 'commander';
import type { ApiClient } from '../../api/client.ts';
import type { Connection, ConnectionSummary } from '../../api/connections.ts';
import { POLICY_LABELS } from '../../api/vocabulary.ts';
import { globals, signedIn } from '../connect.ts';
import type { GlobalOptions } from '../options.ts';
import { printList, printOne, relative, say, state } from '../print.ts';
import { readPairs } from './client.ts';
import { showReady } from './client-registering.ts';
import { splitClient } from './client-secret.ts';
import { connectionCalls } from './connection-calls.ts';
import { connectionEnding } from './connection-ending.ts';
import { connectionGrants } from './connection-grants.ts';
import { connectionOpen } from './connection-open.ts';
import { diagnosisLines } from './consent-outcome.ts';

const POLICY_HELP = Object.entries(POLICY_LABELS)
  .map(([policy, label]) => `${policy}: ${label}`)
  .join('; ');
type PolicyWord = keyof typeof POLICY_LABELS;

async function show(all: GlobalOptions, one: Connection, next?: string): Promise<void> {
  printOne(all, one, [
    ['Connection', one.name],
    ['State', await state(one.state)],
    ['Why', one.cause],
    ['Evidence', one.state === 'working' ? null : one.evidence],
    ['Verdict', one.state === 'working' ? null : diagnosisLines(one.diagnosis)],
    ['What to do', one.remedy],
    ['Client', `${one.provider}/${one.client} (${one.environment}${one.rehearsal ? ', rehearsal' : ''})`],
    ['Grant type', one.grant_type === 'authorization_code' ? null : one.grant_type.replaceAll('_', ' ')],
    ['API', one.base_url],
    [
      'Placeholders',
      Object.entries(one.placeholders)
        .map(([name, value]) => `${name} ${value}`)
        .join(', '),
    ],
    ['Operations', one.operations.join(', ')],
    ['Not allowed', one.operations_lacking.join(', ')],
    ['Weaker client', one.weaker_client ? `${one.provider}/${one.weaker_client} would do for these operations` : null],
    ['Account', one.account],
    ['Opened', one.opened],
    ['Waits', one.standby ? `${one.standby.says} (${one.standby.kind.replaceAll('_', ' ')}${one.standby.account ? `, ${one.standby.account}` : ''})` : null],
    ['Will it live', one.live.verdict === 'not_agreed' ? null : one.live.says],
    ['Never used', one.scopes_unused.length > 0 ? `${one.scopes_unused.join(' ')}: granted, and needed by nothing that is ticked` : null],
    ['Not told', one.revocation?.says],
    [
      one.grant_kind === 'static_key' ? 'Given' : one.grant_kind === 'taken_over' ? 'Taken over' : 'Consented',
      one.consented_at ? `${relative(one.consented_at)}, started by ${one.consented_by}` : null,
    ],
    ['Scopes', one.scopes_granted?.join(' ') ?? one.scopes_requested.join(' ')],
    ['Not granted', one.scopes_missing.join(' ')],
    ['Token', one.life ? `expires ${relative(one.life.expires_at)}, renewal ${relative(one.next_renewal_at)}` : null],
    ['Renewed', one.life ? (one.renewals === 1 ? 'once' : `${one.renewals} times`) : null],
    ['Policy', one.policy === 'always' ? null : `renewed ${POLICY_LABELS[one.policy]}`],
    ['Agree again by', one.agree_again_by ? `${relative(one.agree_again_by)}: the grant ends then by the provider\u2019s rules` : null],
    ['Probe', one.probe.state === 'not_defined' ? null : `GET ${one.probe.path}: ${one.probe.state.replaceAll('_', ' ')}`],
    ['Ready', one.state === 'draft' || one.state === 'not_yet_agreed' ? one.ready.says : null],
    ['Labels', one.labels.join(', ')],
    [
      'Callers',
      one.callers_last_used
        .map((user) => `${user.caller}: ${user.says}; last hour ${user.tokens_last_hour} tokens, ${user.relayed_last_hour} relayed; last ${relative(user.at)}`)
        .join('\n'),
    ],
    ['Resource', one.resource],
    ['Relay', one.relay_url],
    [next?.startsWith('rk ') ? 'Next' : 'Note', next],
  ]);
}

interface AddOptions {
  client: string;
  scope?: string[];
  account?: string;
  grantType?: 'client_credentials' | 'jwt_bearer';
  placeholder?: string[];
  operation?: string[];
  policy: PolicyWord;
  label?: string[];
  allowUnlistedScopes?: boolean;
}

export function connection(rk: Command): void {
  const noun = rk.command('connection').description('authorizations held for an account, by names people use');
  noun
    .command('add')
    .description('add a connection through a client')
    .argument('<name>')
    .requiredOption('--client <client>', 'PROVIDER/NAME')
    .option('--scope <scopes...>', 'what to ask for; left out: the definition\u2019s preset')
    .option('--account <account>', 'the account that should agree')
    .option(
      '--grant-type <type>',
      'authorization_code, client_credentials or jwt_bearer (then --account is the one in whose name it asks); left out: as the client\u2019s type says',
    )
    .option('--placeholder <name=value...>', 'a value that the definition asks for at the connection')
    .option('--operation <ids...>', 'operations of the API that it is for; their weakest scopes are asked for')
    .option('--policy <policy>', POLICY_HELP, 'always')
    .option('--label <labels...>', 'by which callers can be permitted a group of connections')
    .option('--allow-unlisted-scopes', 'take scopes that the definition does not list')
    .action(async (name: string, options: AddOptions, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { provider, client } = splitClient(options.client);
      const scopes =
        options.scope?.flatMap((one) => one.split(/[\s,]+/).filter(Boolean)) ??
        (options.operation ? (await call('chooseScopes', { params: { provider }, body: { operations: options.operation } })).scopes : null) ??
        (await call('showProvider', { params: { provider } })).definition.scopes.filter((scope) => scope.preset).map((scope) => scope.name);
      const one = await call('addConnection', {
        body: {
          name,
          provider,
          client,
          scopes,
          policy: options.policy,
          labels: options.label ?? [],
          operations: options.operation ?? [],
          placeholders: readPairs(options.placeholder ?? []),
          ...(options.grantType && { grant_type: options.grantType }),
          expected_account: options.account ?? null,
          allow_unlisted_scopes: options.allowUnlistedScopes ?? false,
        },
      });
      await show(all, one, `rk connection open ${name}`);
    });
  noun
    .command('change')
    .description('change what the next consent asks for, or when it is renewed')
    .argument('<name>')
    .option('--scope <scopes...>')
    .option('--account <account>', 'the account that should agree; empty: any')
    .option('--operation <ids...>', 'operations of the API that it is for')
    .option('--policy <policy>', POLICY_HELP)
    .option('--label <labels...>', 'the labels it carries from now on; empty: none')
    .option('--allow-unlisted-scopes')
    .action(async (name: string, options: Partial<AddOptions>, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const { revision } = await call('showConnection', { params: { connection: name } });
      const body = {
        revision,
        allow_unlisted_scopes: options.allowUnlistedScopes ?? false,
        ...(options.scope && { scopes: options.scope.flatMap((one) => one.split(/\s+/).filter(Boolean)) }),
        ...(options.operation && { operations: options.operation }),
        ...(options.account !== undefined && { expected_account: options.account }),
        ...(options.policy && { policy: options.policy }),
        ...(options.label && { labels: options.label.filter((one) => one !== '') }),
      };
      await show(all, await call('changeConnection', { params: { connection: name }, body }), `rk connection open ${name}`);
    });
  connectionOpen(noun);
  connectionGrants(noun, show);
  connectionEnding(noun);
  connectionCalls(noun);
  noun
    .command('check')
    .description('is it ready for a consent? Says what is missing, and what cannot be known from here')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      await showReady(all, (await (await signedIn(all))('showConnection', { params: { connection: name } })).ready);
    });
  noun
    .command('list')
    .description('list connections')
    .option('--search <text>', 'part of a name, account, provider, client, label or state')
    .option('--label <label>')
    .option('--state <state>', 'only those in this state, such as working, paused or needs_person')
    .action(async (options: { search?: string; label?: string; state?: string }, command: Command) => {
      const all = globals(command);
      const items = await everyPage(await signedIn(all), options);
      const states = new Map(await Promise.all(items.map(async (one) => [one, await state(one.state)] as const)));
      await printList(
        all,
        items,
        {
          NAME: (one) => one.name,
          STATE: (one) => states.get(one) ?? '',
          CLIENT: (one) => `${one.provider}/${one.client}${one.rehearsal ? ' (rehearsal)' : ''}`,
          ACCOUNT: (one) => one.account ?? '\u2013',
          EXPIRES: (one) => relative(one.life?.expires_at ?? null),
          RENEWED: (one) => String(one.renewals),
          WHY: (one) => one.cause ?? '',
        },
        'No connections yet. Add one: rk connection add NAME --client PROVIDER/NAME',
      );
    });
  noun
    .command('show')
    .description('show a connection')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      await show(all, await (await signedIn(all))('showConnection', { params: { connection: name } }));
    });
  noun
    .command('renew')
    .description('renew now')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      await show(all, await (await signedIn(all))('renewConnection', { params: { connection: name } }));
    });
  noun
    .command('attempts')
    .description('the last attempts to renew it, as they went over the wire, masked')
    .argument('<name>')
    .action(async (name: string, _options: object, command: Command) => {
      const all = globals(command);
      const { items } = await (await signedIn(all))('listAttempts', { params: { connection: name } });
      if (all.output === 'json' || items.length === 0)
        return printList(all, items, {}, 'No attempt is on record. Of many successes only some are kept; failures always are.');
      for (const [at, one] of items.entries()) {
        if (at > 0) process.stdout.write('\n');
        printOne(all, one, [
          ['When', relative(one.at)],
          ['Class', one.class.replaceAll('_', ' ')],
          ['Sent', `${one.request.method} ${one.request.url}`],
          ...Object.entries(one.request.form).map(([name, value]): [string, string] => ['', `${name}=${value}`]),
          ['Answer', one.answer ? `${one.answer.status} ${whole(one.answer.body)}` : one.reason],
          ['Took', `${Math.round(one.took_ms)} ms`],
        ]);
      }
    });
  for (const [verb, operation, says] of [
    ['pause', 'pauseConnection', 'hand out no tokens any more, on any replica, within a second'],
    ['resume', 'resumeConnection', 'renew, then hand out tokens again'],
  ] as const)
    noun
      .command(verb)
      .description(says)
      .argument('<name>')
      .action(async (name: string, _options: object, command: Command) => {
        const all = globals(command);
        const one = await (await signedIn(all))(operation, { params: { connection: name } });
        await show(all, one, verb === 'pause' ? 'tokens already handed out live on at the provider until they run out' : undefined);
      });
  noun
    .command('remove')
    .description('remove a connection and forget its tokens here')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: boolean }, command: Command) => {
      const all = globals(command);
      const call = await signedIn(all);
      const one = await call('showConnection', { params: { connection: name } });
      const { confirmed } = await import('../ask.ts');
      const stops = one.callers.length > 0 ? ` It is used by ${one.callers.join(', ')}.` : '';
      if (
        !(await confirmed(
          `Remove the connection ${name} and forget its tokens?${stops} At the provider the grant stays until it is withdrawn there.`,
          options.yes,
        ))
      )
        return;
      await call('removeConnection', { params: { connection: name } });
      say(all, `Removed ${name}.`);
    });
}

const PAGE = 500;

/** All pages of the list, one after the other. */
async function everyPage(call: ApiClient, narrow: { search?: string; label?: string; state?: string }): Promise<ConnectionSummary[]> {
  const items: ConnectionSummary[] = [];
  for (;;) {
    const page = await call('listConnections', { query: { limit: PAGE, ...narrow, after: items.at(-1)?.name } });
    items.push(...page.items);
    if (page.items.length < PAGE) return items;
  }
}

/** An answer is shown whole: what was cut off is often what explains it. */
const whole = (body: unknown): string => (typeof body === 'string' ? body : JSON.stringify(body, null, 2));
