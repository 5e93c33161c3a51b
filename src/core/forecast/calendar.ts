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

/**
 * What will stop, as a calendar (RFC 5545). An entry keeps its UID while it is the same thing; one that is dealt with is missing, and a
 * subscribed calendar removes it. `SEQUENCE` grows with the date, so that a moved date replaces the former one.
 * @param host names the installation in the UIDs
 */
export function calendar(items: readonly Upcoming[], { host, url, now }: { host: string; url: string; now: number }): string {
  const lines = [
    'BEGIN:VCALENDAR',
    'VERSION:2.0',
    'PRODID:-//Rusty Kettle//Upcoming//EN',
    'CALSCALE:GREGORIAN',
    'METHOD:PUBLISH',
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
      `SEQUENCE:${Math.max(0, Math.floor(one.at / DAY_MS))}`,
      `SUMMARY:${text(`${one.what} expires`)}`,
      `DESCRIPTION:${text(`${one.remedy}\nBegin by ${new Date(one.actBy).toISOString().slice(0, 10)}.${one.breaks.connections > 0 ? `\nStops: ${one.breaks.examples.join(', ')}` : ''}\n${one.command}`)}`,
      `URL:${url}/#${encodeURI(one.page)}`,
      'TRANSP:TRANSPARENT',
      ...(daysBefore > 0 ? ['BEGIN:VALARM', 'ACTION:DISPLAY', `DESCRIPTION:${text(one.what)}`, `TRIGGER:-P${daysBefore}D`, 'END:VALARM'] : []),
      'END:VEVENT',
    );
  }
  lines.push('END:VCALENDAR');
  return `${lines.map(folded).join('\r\n')}\r\n`;
}
