import type { Notice } from '../../api/notices.ts';
import type { AnswerOf, BodyOf } from '../../api/operations.ts';
import { Query } from './query.svelte.ts';
import { call } from './session.svelte.ts';

const DAY_MS = 86_400_000;
export const SNOOZES = [
  ['1 day', 1],
  ['1 week', 7],
  ['30 days', 30],
] as const;
/** The instant so many days from `now` (epoch ms), for a snooze. */
export const snoozedUntil = (days: number, now: number): string => new Date(now + days * DAY_MS).toISOString();

const ORDER: Notice['severity'][] = ['action', 'warning', 'info'];
/** The worst first; of equals what stops first, then the newest. */
export function byUrgency(a: Notice, b: Notice): number {
  const due = (one: Notice) => (one.due_at === null ? Number.POSITIVE_INFINITY : Date.parse(one.due_at));
  return ORDER.indexOf(a.severity) - ORDER.indexOf(b.severity) || due(a) - due(b) || Date.parse(b.opened_at) - Date.parse(a.opened_at) || 0;
}

/** Who has taken it on, in words; empty: nobody. */
export function takenBy(one: Pick<Notice, 'assigned_to' | 'acknowledged_by' | 'snoozed_until'>, now: number): string {
  if (one.assigned_to !== null) return `assigned to ${one.assigned_to}`;
  if (one.snoozed_until !== null && Date.parse(one.snoozed_until) > now) return 'snoozed';
  return one.acknowledged_by === null ? '' : `acknowledged by ${one.acknowledged_by}`;
}

/** Open notices, for the count in the menu and the list on Overview: read once for both. */
export const openNotices = new Query(() => call('listNotices', { query: {} }), 5_000);

/** What the menu shows beside Notices: those that need action, else all; null: none. */
export function countShown(counts: AnswerOf<'listNotices'>['counts'] | undefined): { count: number; tone: 'bad' | 'quiet' } | null {
  if (counts === undefined) return null;
  if (counts.action > 0) return { count: counts.action, tone: 'bad' };
  return counts.warning > 0 ? { count: counts.warning, tone: 'quiet' } : null;
}

type Sending = 'now' | 'digest' | 'off';
/** A channel as it is typed in. */
export class ChannelDraft {
  kind = $state<'mail' | 'webhook' | 'script'>('mail');
  name = $state('');
  to = $state('');
  url = $state('');
  secret = $state('');
  script = $state('');
  labels = $state('');
  action = $state<Sending>('now');
  warning = $state<Sending>('digest');
  info = $state<Sending>('digest');
  zone = $state(Intl.DateTimeFormat().resolvedOptions().timeZone);
  digestAt = $state('08:00');
  quiet = $state(false);
  quietFrom = $state('22:00');
  quietTo = $state('07:00');

  readonly isDigest = $derived([this.action, this.warning, this.info].includes('digest'));
  readonly body = $derived.by((): BodyOf<'addChannel'> => {
    const words = (text: string) => text.split(/[\s,;]+/).filter(Boolean);
    const rule = {
      severities: { action: this.action, warning: this.warning, info: this.info },
      labels: words(this.labels),
      zone: this.zone.trim(),
      digest_at: this.digestAt,
      quiet: this.quiet ? { from: this.quietFrom, to: this.quietTo } : null,
    };
    const name = this.name.trim();
    if (this.kind === 'mail') return { kind: 'mail', name, to: words(this.to), rule };
    if (this.kind === 'script') return { kind: 'script', name, script: this.script.trim(), rule };
    return { kind: 'webhook', name, url: this.url.trim(), ...(this.secret === '' ? {} : { signing_secret: this.secret }), rule };
  });
}
