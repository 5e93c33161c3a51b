import { DateTime } from 'luxon';
import { z } from 'zod';
import { isZone } from '../quota/zones.ts';
import { NOTICE_SEVERITIES, type Notice, type NoticeEvent } from './notice.ts';

/** How soon notices of a severity are sent. */
const SENDING = ['now', 'digest', 'off'] as const;
const sending = z.enum(SENDING);
const timeOfDay = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, { error: 'A time of day, such as 08:00.' });

/** Which notices a channel gets, and when. */
export const ChannelRule = z.strictObject({
  severities: z
    .strictObject({ action: sending.default('now'), warning: sending.default('digest'), info: sending.default('digest') })
    .default({ action: 'now', warning: 'digest', info: 'digest' })
    .describe('How soon notices of each severity are sent: now, in the daily digest, or off'),
  labels: z.array(z.string().max(63)).max(20).default([]).describe('Only notices about connections with one of these labels; none: all'),
  zone: z.string().max(60).default('UTC').refine(isZone, { error: 'No time zone of that name, such as Europe/Oslo.' }),
  digest_at: timeOfDay.default('08:00').describe('When the digest is sent, in the time zone'),
  quiet: z
    .strictObject({ from: timeOfDay, to: timeOfDay })
    .refine(({ from, to }) => from !== to, { error: 'Quiet hours begin and end at different times.' })
    .nullable()
    .default(null)
    .describe('Hours in which nothing is sent; it is sent when they end'),
});
export type ChannelRule = z.output<typeof ChannelRule>;

/** The next moment after `now` at which the clock of the zone shows that time; one that daylight saving skips comes an hour later. */
function nextAt(time: string, zone: string, now: number): number {
  const [hour = 0, minute = 0] = time.split(':').map(Number);
  const here = DateTime.fromMillis(now, { zone });
  for (let day = 0; day < 3; day += 1) {
    const at = here.startOf('day').plus({ days: day }).set({ hour, minute }).toMillis();
    if (at > now) return at;
  }
  return now; // not reached: one of three days has it
}

/** When quiet hours that hold now end, epoch ms; null: they do not hold. They may span midnight. */
export function quietUntil({ quiet, zone }: Pick<ChannelRule, 'quiet' | 'zone'>, now: number): number | null {
  if (quiet === null) return null;
  const shown = DateTime.fromMillis(now, { zone }).toFormat('HH:mm');
  const isWithin = quiet.from < quiet.to ? shown >= quiet.from && shown < quiet.to : shown >= quiet.from || shown < quiet.to;
  return isWithin ? nextAt(quiet.to, zone, now) : null;
}

/** When a channel sends it, epoch ms; null: it does not. A digest comes when it is set for, also in quiet hours. */
export function plannedAt(rule: ChannelRule, notice: Pick<Notice, 'severity' | 'labels'>, now: number): number | null {
  const how = rule.severities[notice.severity];
  if (how === 'off') return null;
  if (rule.labels.length > 0 && !notice.labels.some((label) => rule.labels.includes(label))) return null;
  return how === 'digest' ? nextAt(rule.digest_at, rule.zone, now) : (quietUntil(rule, now) ?? now);
}

/** Whether a message that waited is still worth sending. `wasOpenedSent`: the channel knows of the notice. */
export function isStillNews(event: NoticeEvent, notice: Pick<Notice, 'state' | 'acknowledgedBy' | 'reminded'>, wasOpenedSent: boolean): boolean {
  if (event === 'closed') return wasOpenedSent && notice.state === 'closed';
  if (notice.state === 'closed') return false;
  return event !== 'reminder' || notice.acknowledgedBy === null || notice.reminded === 1;
}

/** The severities from the worst. */
export const bySeverity = (a: Pick<Notice, 'severity'>, b: Pick<Notice, 'severity'>): number =>
  NOTICE_SEVERITIES.indexOf(a.severity) - NOTICE_SEVERITIES.indexOf(b.severity);
