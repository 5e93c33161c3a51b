import type { Upcoming } from './forecast.ts';

const DAY_MS = 86_400_000;
const ESCAPED: Record<string, string> = { '\\': '\\\\', ';': '\\;', ',': '\\,', '\n': '\\n' };
const LINE_OCTETS = 75;

/** RFC 5545 §3.3.11: text with what has a meaning escaped; other line breaks do not occur. */
const text = (value: string): string => value.replace(/\r\n?/g, '\n').replace(/[\\;,\n]/g, (c) => ESCAPED[c] ?? c);
const day = (at: number): string => new Date(at).toISOString().slice(0, 10).replaceAll('-', '');
const instant = (at: number): string => `${new Date(at).toISOString().slice(0, 19).replace(/[-:]/g, '')}Z`;

/** RFC 5545 §3.1: no line is longer than 75 octets, and no character is cut. */
export function folded(line: string): string {
  const parts: string[] = [];
  let [part, octets] = ['', 0];
  for (const character of line) {
    const size = Buffer.byteLength(character);
    if (octets + size > LINE_OCTETS - (parts.length > 0 ? 1 : 0)) {
      parts.push(part);
      [part, octets] = ['', 0];
    }
    part += character;
    octets += size;
  }
  return [...parts, part].join('\r\n ');
}

const ENDS: Partial<Record<Upcoming['kind'], string>> = { quota: 'is used up', disk: 'is full', approval: 'is due' };

/** An entry as calendars have it, or had it. */
export interface CalendarEntry {
  key: string;
  summary: string;
  at: number;
  /** RFC 5545 §3.8.7.4: grows with each change that matters. */
  sequence: number;
  /** When it was dealt with; null: it still stands. */
  canceledAt: number | null;
}
/** So long a dealt-with entry is told as canceled: a calendar that reads once a week must hear of it. */
export const CANCELED_KEPT_DAYS = 30;
const summaryOf = (one: Upcoming): string => `${one.what} ${ENDS[one.kind] ?? 'expires'}`;

/**
 * Compares what calendars were told with what is upcoming now: new entries, moved or renamed ones with the next sequence, and canceled
 * ones. What was canceled and comes back goes on with its sequence.
 * @returns all entries to tell now, and those among them that changed
 */
export function reconcileCalendar(told: readonly CalendarEntry[], items: readonly Upcoming[], now: number): { all: CalendarEntry[]; changed: CalendarEntry[] } {
  const known = new Map(told.map((one) => [one.key, one]));
  const all: CalendarEntry[] = [];
  const changed: CalendarEntry[] = [];
  const tell = (one: CalendarEntry, isNew: boolean): void => {
    all.push(one);
    if (isNew) changed.push(one);
  };
  for (const item of items) {
    const before = known.get(item.key);
    const summary = summaryOf(item).slice(0, 300);
    const isSame = before !== undefined && before.canceledAt === null && before.at === item.at && before.summary === summary;
    tell({ key: item.key, summary, at: item.at, sequence: before ? before.sequence + (isSame ? 0 : 1) : 0, canceledAt: null }, !isSame);
    known.delete(item.key);
  }
  for (const gone of known.values())
    if (gone.canceledAt === null) tell({ ...gone, sequence: gone.sequence + 1, canceledAt: now }, true);
    else if (now - gone.canceledAt < CANCELED_KEPT_DAYS * DAY_MS) tell(gone, false);
  return { all, changed };
}

/**
 * What will stop, as a calendar (RFC 5545). An entry keeps its UID while it is the same thing; one that is dealt with is told as canceled,
 * so that every calendar program removes it.
 * @param told from {@link reconcileCalendar}
 * @param host names the installation in the UIDs
 */
export function calendar(items: readonly Upcoming[], told: readonly CalendarEntry[], { host, url, now }: { host: string; url: string; now: number }): string {
  const sequences = new Map(told.map((one) => [one.key, one.sequence]));
  const lines = [
    'BEGIN:VCALENDAR',
    'VERSION:2.0',
    'PRODID:-//Rusty Kettle//Upcoming//EN',
    'CALSCALE:GREGORIAN',
    // No METHOD: a feed that is subscribed to is no iTIP message, which would need an ORGANIZER (RFC 5546 §3.2.1).
    `X-WR-CALNAME:${text(`Upcoming at ${host}`)}`,
  ];
  for (const one of items) {
    const daysBefore = Math.max(0, Math.round((one.at - one.actBy) / DAY_MS));
    lines.push(
      'BEGIN:VEVENT',
      `UID:${one.key}@${host}`,
      `DTSTAMP:${instant(now)}`,
      `DTSTART;VALUE=DATE:${day(one.at)}`,
      `DTEND;VALUE=DATE:${day(one.at + DAY_MS)}`,
      `SEQUENCE:${sequences.get(one.key) ?? 0}`,
      `SUMMARY:${text(summaryOf(one))}`,
      `DESCRIPTION:${text(`${one.remedy}\nBegin by ${new Date(one.actBy).toISOString().slice(0, 10)}.${one.breaks.connections > 0 ? `\nStops: ${one.breaks.examples.join(', ')}` : ''}\n${one.command}`)}`,
      `URL:${url}/#${encodeURI(one.page)}`,
      'TRANSP:TRANSPARENT',
      ...(daysBefore > 0 ? ['BEGIN:VALARM', 'ACTION:DISPLAY', `DESCRIPTION:${text(one.what)}`, `TRIGGER:-P${daysBefore}D`, 'END:VALARM'] : []),
      'END:VEVENT',
    );
  }
  for (const one of told.filter((entry) => entry.canceledAt !== null))
    lines.push(
      ...['BEGIN:VEVENT', `UID:${one.key}@${host}`, `DTSTAMP:${instant(now)}`, `DTSTART;VALUE=DATE:${day(one.at)}`],
      ...[`DTEND;VALUE=DATE:${day(one.at + DAY_MS)}`, `SEQUENCE:${one.sequence}`, `SUMMARY:${text(one.summary)}`],
      ...['STATUS:CANCELLED', 'TRANSP:TRANSPARENT', 'END:VEVENT'],
    );
  lines.push('END:VCALENDAR');
  return `${lines.map(folded).join('\r\n')}\r\n`;
}
