import type { Connection } from '../../api/connections.ts';
import { untilFinished } from '../consent-waiting.ts';
import { EXIT, Outcome } from '../exit.ts';
import { listedMore } from '../options.ts';
import { relative } from '../print.ts';
import { agreed, operation, task, verb } from '../row.ts';
import { failedWith, line, lineMark, one, type Shown, table, text } from '../show.ts';
import { shownConnection } from '../views/connection.ts';
import { shownOutcome } from '../views/consent.ts';
import { diagnosisLines } from '../views/diagnosis.ts';

const MAX_BODY = 600;
const named = ({ args: [name] }: { args: [string] }) => ({ params: { connection: name } });
const secret = async (what: string): Promise<string> => (await import('../ask.ts')).secret(what);

/** What lies beside a plain consent: imported tokens, keys, the standby grant, capabilities, expiration, admin consent. */
export const grantCommands = () => [
  task(
    verb('import', 'import a refresh token from an old script (prompted, or on standard input): stored first, then verified', 'rk connection import sailings')
      .argument('<name>')
      .option('--scope <scopes...>', 'the scopes it was granted, if known', listedMore),
    async ({ args: [name], options, call }) => {
      const body = { refresh_token: await secret('The refresh token'), scopes: options.scope };
      const started = await call('importToken', { params: { connection: name }, body });
      process.stderr.write('Stored. Verifying it by one renewal\u2026\n');
      return shownOutcome(await untilFinished(() => call('showConsent', { params: { consent: started.id } })));
    },
  ),
  operation(
    verb('set-key', 'set the static API key that an integration uses today (prompted, or on standard input)', 'rk connection set-key berths').argument(
      '<name>',
    ),
    {
      calls: 'setKey',
      input: async (given) => ({ ...named(given), body: { key: await secret('The key') } }),
      shows: (c, { args: [name] }) => shownConnection(c, c.standby ? `rk connection switch ${name}` : `rk connection open ${name} --prepare`),
    },
  ),
  operation(
    verb('switch', 'use the standby tokens or key; a reference call is made before and after', 'rk connection switch berths')
      .argument('<name>')
      .option('--path <path>', 'the reference call (GET); default: the probe'),
    {
      calls: 'decideStandby',
      asks: async ({ args: [name], call }) => {
        const { standby, callers } = await call('showConnection', { params: { connection: name } });
        return `${standby?.says ?? 'Nothing is on standby.'} Use it for ${name}?${callers.length > 0 ? ` ${callers.join(', ')} will get it from then on.` : ''}`;
      },
      input: (given) => ({ ...named(given), body: { decision: 'use' as const, path: given.options.path } }),
      shows: (decided) => {
        const shown = one(decided, [
          ['Now', decided.says],
          ['Before', callLine(decided.before)],
          ['After', callLine(decided.after)],
          ['Compared', decided.compared ? (decided.compared.same ? 'the answers are the same' : decided.compared.differences.join('\n')) : null],
        ]);
        return decided.went_back ? failedWith(shown, decided.says) : shown;
      },
    },
  ),
  operation(verb('discard', 'discard the standby tokens or key', 'rk connection discard berths').argument('<name>'), {
    calls: 'decideStandby',
    asks: async (given) => `${(await given.call('showConnection', named(given))).standby?.says ?? 'Nothing is on standby.'} Discard it?`,
    input: (given) => ({ ...named(given), body: { decision: 'discard' as const } }),
    shows: ({ says }) => line(says),
  }),
  task(
    verb('verify', 'make the test call of a capability; asks first if the call changes something', 'rk connection verify sailings --capability reading')
      .argument('<name>')
      .option('--capability <name>', 'such as reading or writing; default: the first one without effects')
      .option('--yes', 'make the call even if it changes something at the provider'),
    async ({ args: [name], options, call }) => {
      const { capabilities } = await call('showConnection', { params: { connection: name } });
      const wanted = capabilities.find((each) => (options.capability === undefined ? !each.effects : each.name === options.capability));
      if (wanted?.effects && !(await agreed(options, `${wanted.call} changes something at the provider, or someone sees it. Make the call?`))) return undefined;
      const body = { capability: options.capability, effects: wanted?.effects ?? false };
      const answer = await call('probeConnection', { params: { connection: name }, body });
      const { diagnosis } = answer;
      const shown = one(answer, [
        ['Call', `${answer.method} ${answer.url}`],
        ['Answer', callLine(answer)],
        ['Verdict', diagnosisLines(diagnosis ?? null)],
        ['What to do', diagnosis?.remedy],
        ['Body', answer.body.slice(0, MAX_BODY)],
      ]);
      return diagnosis ? failedWith(shown, diagnosis.title, diagnosis.side === 'person' ? EXIT.person : EXIT.failed) : shown;
    },
  ),
  operation(
    verb(
      'lifetime',
      'show expiration and renewal: what keeps it active, what expires first, which capabilities are verified',
      'rk connection lifetime sailings',
    ).argument('<name>'),
    { calls: 'showConnection', input: named, shows: shownLifetime },
  ),
  task(
    verb('admin-consent', 'show the link and text to send for admin consent; --check looks whether it was given', 'rk connection admin-consent phones')
      .argument('<name>')
      .option('--check', 'check at the provider whether admin consent was given'),
    async ({ args: [name], options, call }) => {
      const params = { connection: name };
      if (options.check) {
        const checked = await call('checkAdminConsent', { params });
        const shown = one(checked, [
          ['Consented', checked.consented === null ? 'not known' : checked.consented ? 'yes' : 'no'],
          ['Details', checked.says],
          ['Evidence', checked.evidence],
        ]);
        return checked.consented === true ? shown : failedWith(shown, checked.says, EXIT.person);
      }
      const { admin_consent: needed } = await call('showConnection', { params });
      if (!needed) return one({ admin_consent: null }, [['Admin consent', 'not needed for the scopes that this connection requests']]);
      return one(needed, [
        ['For', needed.scopes.join(' ')],
        ['Link', needed.link],
        ['Text', needed.text],
        ['Next', needed.check ? `rk connection admin-consent ${name} --check` : `rk connection open ${name}: the outcome of a consent shows it`],
      ]);
    },
  ),
  task(
    verb(
      'explain',
      'explain the page on which the provider stopped: paste its text or address, or send it on standard input',
      'rk connection explain sailings',
    ).argument('<name>'),
    async ({ args: [name], call }) => {
      const { open_consent: open } = await call('showConnection', { params: { connection: name } });
      if (!open)
        throw new Outcome(
          EXIT.notFound,
          `No consent of ${name} is in progress.\nWhat to do: open the connection, go to the provider again, and paste the page on which it stops.`,
        );
      const { page_diagnosis: found } = await call('explainPage', {
        params: { consent: open.id },
        body: { page: await secret('Text or address of the page') },
      });
      return one(found, [
        ['Verdict', diagnosisLines(found)],
        ['What to do', found?.remedy],
      ]);
    },
  ),
  task(
    verb('revoke', 'revoke the grant at the provider and delete its tokens here; name, callers and history stay', 'rk connection revoke sailings')
      .argument('<name>')
      .option('--again', 'retry now a revocation that did not reach the provider')
      .option('--yes', 'do not ask'),
    async ({ args: [name], options, call }) => {
      const params = { connection: name };
      if (options.again) {
        const answer = await call('retryRevocation', { params });
        return one(answer, [['Provider', answer.says]]);
      }
      const { callers_last_used: users } = await call('showConnection', { params });
      const used = users.map((user) => `${user.caller} (${user.at ? `last used ${relative(user.at)}` : 'never used it'})`);
      const stops = used.length > 0 ? ` These callers will get no more tokens: ${used.join(', ')}.` : ' No caller uses it.';
      if (!(await agreed(options, `Revoke ${name}?${stops}`))) return undefined;
      const answer = await call('revokeConnection', { params });
      return one(answer, [
        ['Revoked', name],
        ['Provider', answer.says],
        ['Next', `rk connection open ${name} reconnects it`],
      ]);
    },
  ),
];

const callLine = (made: { status: number | null; reason?: string | null | undefined; took_ms: number } | null): string | null =>
  made && `${made.status ?? made.reason} in ${Math.round(made.took_ms)} ms`;

function shownLifetime({ name, lifetime, capabilities }: Connection): Shown {
  const lines = [
    ...lifetime.lines,
    ...capabilities.map((each) => ({
      what: each.name,
      verdict: each.state === 'verified' ? ('good' as const) : each.state === 'failed' ? ('bad' as const) : ('doubt' as const),
      says: `${each.call}: ${CAPABILITY_STATES[each.state]}${each.effects ? ', changes something at the provider' : ''}${each.allowed ? '' : '; the granted scopes do not allow it'}`,
      remedy: each.diagnosis?.remedy ?? (each.state === 'not_verified' ? `rk connection verify ${name} --capability ${each.name}` : null),
    })),
  ];
  return {
    data: { lifetime, capabilities },
    parts: [
      table(
        lines,
        { '': (each) => lineMark(each.verdict), ITEM: (each) => each.what, DETAILS: (each) => each.says, 'WHAT TO DO': (each) => each.remedy ?? '' },
        lifetime.says,
      ),
      text([...lifetime.ends.map((end) => `${end.what} expires ${relative(end.at)} (${end.at}).`), lifetime.says].join('\n')),
    ],
  };
}

const CAPABILITY_STATES: Record<Connection['capabilities'][number]['state'], string> = { verified: 'verified', failed: 'failed', not_verified: 'not verified' };
