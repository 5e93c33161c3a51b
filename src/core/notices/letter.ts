import { DateTime } from 'luxon';
import { type CloudEvent, cloudEvent } from '../cloud-event.ts';
import { counted } from '../counted.ts';
import { escapeHtml } from '../html.ts';
import { bySeverity } from './channel.ts';
import type { Notice, NoticeEvent, NoticeSeverity } from './notice.ts';

/** One message about one notice. */
export interface NotifiedCause {
  event: NoticeEvent;
  notice: Pick<
    Notice,
    'id' | 'kind' | 'subject' | 'labels' | 'severity' | 'title' | 'evidence' | 'remedy' | 'command' | 'count' | 'dueAt' | 'openedAt' | 'closedAt'
  >;
  /** Of the console, where it is shown. */
  page: string;
}
/** A mail in both forms. */
export interface NoticeLetter {
  subject: string;
  text: string;
  html: string;
}

const MAX_SHOWN = 20;
const EVENT_WORDS: Record<NoticeEvent, string> = { opened: 'New', worse: 'Worse', reminder: 'Still open', closed: 'Fixed' };
const SEVERITY_WORDS: Record<NoticeSeverity, string> = { action: 'Action needed', warning: 'Warning', info: 'For your information' };

/** Text of others stands in one line, so that it cannot pass for a part of the message. */
const oneLine = (text: string): string => text.replace(/\s+/g, ' ').trim();
const dayOf = (at: number, zone: string): string => DateTime.fromMillis(at, { zone }).setLocale('en-US').toFormat('LLLL d, yyyy, HH:mm ZZZZ');

/** What happened, why, and what to do: the lines of one notice. */
function linesOf({ event, notice }: NotifiedCause, zone: string): [label: string, value: string][] {
  if (event === 'closed') return notice.closedAt === null ? [] : [['Fixed', dayOf(notice.closedAt, zone)]];
  return [
    ...(notice.dueAt === null ? [] : [['Date', dayOf(notice.dueAt, zone)] as [string, string]]),
    ...(notice.count === 0 ? [] : [['Concerns', counted(notice.count, 'connection')] as [string, string]]),
    ...(notice.evidence === '' ? [] : [['Evidence', oneLine(notice.evidence)] as [string, string]]),
    ['Fix', oneLine(notice.remedy)],
    ...(notice.command === '' ? [] : [['Command', notice.command] as [string, string]]),
  ];
}

const headline = ({ event, notice }: NotifiedCause): string =>
  event === 'closed' ? `${EVENT_WORDS.closed}: ${oneLine(notice.title)}` : `${SEVERITY_WORDS[notice.severity]}: ${oneLine(notice.title)}`;

/**
 * One mail for everything that a channel sends at a time: the worst first, 20 in full, and how many more there are. One link.
 * @param url of the console, without a slash at its end
 */
export function noticeLetter(told: readonly NotifiedCause[], { url, zone }: { url: string; zone: string }): NoticeLetter {
  const sorted = [...told].sort((a, b) => Number(a.event === 'closed') - Number(b.event === 'closed') || bySeverity(a.notice, b.notice));
  const [first] = sorted;
  const rest = sorted.length - 1;
  const link = `${url}/#${sorted.length === 1 && first ? first.page : '/notices'}`;
  const shown = sorted.slice(0, MAX_SHOWN);
  const left = sorted.length - shown.length;
  const more = left > 0 ? `${left} more ${left === 1 ? 'is' : 'are'} listed in the console.` : '';
  const subject = first ? `${headline(first)}${rest > 0 ? ` (and ${rest} more)` : ''}`.slice(0, 180) : '';
  const text = [
    ...shown.map((one) => [`${headline(one)}`, ...linesOf(one, zone).map(([label, value]) => `  ${label}: ${value}`)].join('\n')),
    ...(more ? [more] : []),
    `Details: ${link}`,
  ].join('\n\n');
  const html = [
    '<!doctype html><html lang="en"><body style="font-family:sans-serif;line-height:1.45">',
    ...shown.map(
      (one) =>
        `<p><strong>${escapeHtml(headline(one))}</strong>${linesOf(one, zone)
          .map(([label, value]) => `<br>${escapeHtml(label)}: ${escapeHtml(value)}`)
          .join('')}</p>`,
    ),
    more ? `<p>${escapeHtml(more)}</p>` : '',
    `<p><a href="${escapeHtml(link)}">Details</a></p></body></html>`,
  ].join('');
  return { subject, text: `${text}\n`, html };
}

/** A message as CloudEvents 1.0 (structured JSON), for webhooks and scripts. No secret, and no personal data beyond names. */
export function noticeEvent({ event, notice, page }: NotifiedCause, about: { id: string; at: number; url: string }): CloudEvent {
  const instant = (at: number | null): string | null => (at === null ? null : new Date(at).toISOString());
  return cloudEvent({
    id: about.id,
    source: about.url,
    type: `notice.${event}`,
    subject: notice.subject,
    at: about.at,
    data: {
      notice: notice.id,
      kind: notice.kind,
      severity: notice.severity,
      title: notice.title,
      evidence: notice.evidence,
      remedy: notice.remedy,
      command: notice.command,
      labels: notice.labels,
      connections: notice.count,
      due_at: instant(notice.dueAt),
      opened_at: instant(notice.openedAt),
      closed_at: instant(notice.closedAt),
      url: `${about.url}/#${page}`,
    },
  });
}
