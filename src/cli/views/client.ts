import type { Client } from '../../api/clients.ts';
import { relative } from '../print.ts';
import { failedWith, lineMark, one, type Part, type Shown, state, table, text } from '../show.ts';

const words = (name: string): string => name.replaceAll('_', ' ');

/** A client, and what to do next. */
export const shownClient = (c: Client, next?: string): Shown =>
  one(c, [
    ['Client', `${c.provider}/${c.name}`],
    ['State', state(c.state)],
    ['Rehearsal', c.rehearsal_port === null ? null : `at a simulated provider on port ${c.rehearsal_port}: nothing here is real`],
    ['Why', c.cause],
    ['What to do', c.remedy],
    ['Type', words(c.type)],
    ['Environment', `${c.environment}${c.variant ? `, variant ${c.variant}` : ''}`],
    [
      'Placeholders',
      Object.entries(c.placeholders)
        .map(([name, value]) => `${name} ${value}`)
        .join(', '),
    ],
    ['Addresses', c.addresses.map((address) => `${address.what}: ${address.address}`).join('\n')],
    ['Not confirmed', c.unconfirmed_origins.join('\n')],
    ['Redirect URI', c.redirect_uri],
    ['Client id', c.client_id],
    ['Authentication', c.method],
    ['Secret', c.secret ? `entered ${relative(c.secret.entered_at)}${c.secret.ends_at ? `, expires ${relative(c.secret.ends_at)}` : ''}` : null],
    ['Ready', c.ready.says],
    ['Approval', approvalLine(c)],
    ['Sent', c.requests.map((sent) => `${sent.form}, ${sent.sent_on}, by ${sent.sent_by}`).join('\n')],
    ['Requested', requestLine(c)],
    ['Page at the provider', c.client_page],
    ['Domains', (c.registering.domains_there ?? []).join(' ')],
    ['Breaks a rule', c.redirect_rules.join('\n')],
    ['Registered by', c.registering.registered_by],
    ['Notes', c.registering.notes],
    ['Who can sign in', `${c.reach}${c.listed_accounts.length > 0 ? ` (${c.listed_accounts.join(', ')})` : ''}${c.reach_says ? `: ${c.reach_says}` : ''}`],
    ['Registered', c.registered_scopes.join(' ')],
    ['Privilege', c.privilege.says],
    ['Register at', c.registration_page],
    ['Connections', String(c.connections)],
    ['Next', next],
  ]);

const approvalLine = (c: Client): string =>
  [
    words(c.approval),
    c.registering.approved_on ? `, on ${c.registering.approved_on}: costly to change` : '',
    c.approval_seen_at ? `, checked ${relative(c.approval_seen_at)}: ${c.approval_evidence ?? ''}` : '',
  ].join('');

const requestLine = ({ registering: { requested_on, request_form, expected_on } }: Client): string =>
  [requested_on, request_form, expected_on ? `expected ${expected_on}` : ''].filter(Boolean).join(', ');

/** The checks before a consent as a table; what is missing sets the exit code. */
export function shownReady(ready: Client['ready']): Shown {
  const lines = table(
    ready.lines,
    { '': (line) => lineMark(line.verdict), CHECK: (line) => line.what, RESULT: (line) => line.says, 'WHAT TO DO': (line) => line.remedy ?? '' },
    'Nothing to check.',
  );
  return ready.ready ? { data: ready, parts: [lines, text(ready.says)] } : failedWith({ data: ready, parts: [lines] }, ready.says);
}

/** The steps of registering a client, those done marked. */
export const guideParts = (steps: Client['guide']): Part[] => [text(steps.map(stepLines).join('\n'))];

const stepLines = (step: Client['guide'][number], at: number): string =>
  [
    `${step.done ? '\u2713' : '\u00b7'} ${at + 1}. ${step.title}`,
    ...(
      [
        ['Where', step.where],
        ['Page', step.page],
        ['Do', step.does],
        ['Not', step.do_not_confuse],
        ['Empty', step.leave_empty],
        ['Instead', step.instead],
        ['Missing', step.missing.join(', ')],
      ] as const
    ).flatMap(([label, said]) => (said ? [`     ${label.padEnd(8)}${said}`] : [])),
  ].join('\n');
