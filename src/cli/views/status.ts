import type { AnswerOf } from '../../api/operations.ts';
import { STATES } from '../../api/vocabulary.ts';
import { relative } from '../print.ts';
import { fields, type Part, state, table, text } from '../show.ts';

type Status = AnswerOf<'showStatus'>;

/** What works, what is degraded, and where someone must act. */
export function statusParts(now: Status): Part[] {
  const { connections: c, renewals: r, issued: h } = now;
  const refused = now.installation.writes_refused;
  const states = [
    `${c.working} ${STATES.working.label}`,
    ...(c.idle > 0 ? [`${c.idle} ${STATES.idle.label}`] : []),
    `${c.degraded} ${STATES.degraded.label}${c.at_risk > 0 ? ` (${c.at_risk} at risk)` : ''}`,
    `${c.action_needed} ${STATES.action_needed.label}`,
    `${c.other} other`,
  ];
  return [
    fields([
      ['Service', `${now.public_url}, version ${now.version}`],
      ['Practice', now.installation.practice ? 'a restored copy for practice: it issues, renews, sends and delivers nothing' : null],
      ['Held', now.installation.held && !now.installation.practice ? `${now.installation.why}\nWhat to do: rk installation own` : null],
      [
        'Database',
        refused &&
          `It has refused writes since ${relative(refused.since)}: ${refused.says} Answers of providers that wait for it: ${refused.waiting}\nWhat to do: free space on its disk, or end its read-only mode. Do not stop the service`,
      ],
      ['Connections', `${c.total}: ${states.join(', ')}`],
      [
        'Renewals',
        `${r.last_hour} in the last hour, ${r.last_minute} in the last minute, ${r.failed_last_hour} failed; due now ${r.due_now}${r.oldest_due_at ? `, the oldest ${relative(r.oldest_due_at)}` : ''}`,
      ],
      ['Not saved yet', r.unsaved > 0 ? `${r.unsaved} answers wait in memory for the database, ${r.spilled} of them in sealed files too` : null],
      ['Paused', now.endpoints.flatMap((one) => (one.paused_until ? [`${one.origin}: next try ${relative(one.paused_until)}`] : [])).join('\n')],
      ['Approvals', now.approvals.map(approvalLine).join('\n')],
      ['Decisions', now.decisions.map(decisionLine).join('\n')],
      ['Revocations', now.revocations > 0 ? `${now.revocations} did not reach their providers yet; they are retried` : null],
      ['Issued', `${h.last_hour} tokens and ${h.relayed_last_hour} relayed calls in the last hour, ${h.refused_last_hour} rejected`],
      [
        'Replicas',
        now.replicas
          .flatMap((one) => (one.alive ? [`${one.instance.slice(-12)}, start ${one.incarnation}, since ${relative(one.started_at)}`] : []))
          .join('\n'),
      ],
    ]),
    ...attentionParts(now),
  ];
}

const approvalLine = (one: Status['approvals'][number]): string =>
  `${one.provider}/${one.client}: ${STATES[one.approval].label}${one.on ? `, ${one.approval === 'approved' ? 'on' : 'requested on'} ${one.on}` : ''}`;

const decisionLine = (one: Status['decisions'][number]): string =>
  `${one.connection}: ${one.why === 'other_account' ? `another account consented${one.account ? `, ${one.account}` : ''}` : 'tokens that could not be verified'}, ${relative(one.since)}`;

function attentionParts(now: Status): Part[] {
  if (now.attention.length === 0) return [text('No action needed.')];
  const byCause = now.groups.some((group) => group.count > 1);
  return [
    ...(byCause
      ? [
          text('By cause'),
          table(
            now.groups,
            {
              COUNT: (one) => String(one.count),
              STATE: (one) => state(one.state),
              CAUSE: (one) => `${one.says}${one.evidence ? ` (${one.evidence})` : ''}`,
              'WHAT TO DO': (one) => one.remedy,
            },
            '',
          ),
        ]
      : []),
    table(
      now.attention,
      { CONNECTION: (one) => one.name, STATE: (one) => state(one.state), WHY: (one) => one.cause ?? '', 'WHAT TO DO': (one) => one.remedy ?? '' },
      '',
    ),
  ];
}
