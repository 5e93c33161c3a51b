import fc from 'fast-check';
import { expect, test } from 'vitest';
import { ChannelRule, plannedAt, quietUntil } from './channel.ts';
import { noticeLetter } from './letter.ts';
import { type Cause, type Change, type Notice, RETURNS_WITHIN_MS, reconcile } from './notice.ts';
import { upcomingTitle } from './upcoming-title.ts';

const MINUTE = 60_000;
const DAY = 86_400_000;
const SETTLE = 2 * MINUTE;
const START = Date.parse('2026-03-01T09:00:00Z');

const cause = (of: Partial<Cause> = {}): Cause => ({
  ...{ key: 'a', kind: 'connections', severity: 'action', subject: 'client:a/b', title: 'It stopped', evidence: '', remedy: 'Fix it.', page: '/', command: '' },
  ...{ labels: [], count: 1, dueAt: null, settleMs: 0, ...of },
});

/** The notices of one installation, as the service keeps them; `told` gathers what channels would get. */
function world() {
  const rows = new Map<string, Notice>();
  const told: string[] = [];
  let made = 0;
  const apply = (change: Change, now: number): void => {
    if (change.is === 'discarded') return void rows.delete(change.notice.id);
    if (change.is === 'new') {
      const { settleMs: _settle, ...shown } = change.cause;
      made += 1;
      const row: Notice = {
        ...{
          ...shown,
          id: String(made),
          state: change.state,
          firstSeenAt: now,
          openedAt: change.state === 'open' ? now : null,
          goneSince: null,
          closedAt: null,
        },
        ...{ reminded: change.reminded, returns: 0, acknowledgedBy: null, acknowledgedAt: null, assignedTo: null, snoozedUntil: null, revision: 0 },
      };
      rows.set(row.id, row);
      if (change.event) told.push(`${change.event} ${row.key}`);
      return;
    }
    const row = { ...change.notice, ...change.set, revision: change.notice.revision + 1 };
    rows.set(row.id, row);
    if (change.event) told.push(`${change.event} ${row.key}`);
  };
  return {
    rows,
    told,
    at(now: number, causes: Cause[]) {
      const kept = [...rows.values()].filter((row) => row.state !== 'closed' || (row.closedAt ?? 0) >= now - RETURNS_WITHIN_MS);
      for (const change of reconcile(kept, causes, now, SETTLE)) apply(change, now);
    },
    only: () => [...rows.values()][0] as Notice,
  };
}

test('one cause: told once, changed silently, closed once it is gone for a while; the same facts change nothing', () => {
  const w = world();
  for (let minute = 0; minute < 10; minute += 1) w.at(START + minute * MINUTE, [cause({ count: minute + 1 })]);
  expect([w.told, w.rows.size, w.only().count]).toEqual([['opened a'], 1, 10]);
  expect(reconcile([...w.rows.values()], [cause({ count: 10 })], START + 10 * MINUTE, SETTLE)).toEqual([]);
  for (let minute = 10; minute < 15; minute += 1) w.at(START + minute * MINUTE, []);
  expect([w.told, w.only().state]).toEqual([['opened a', 'closed a'], 'closed']);
});

test('what lasts too short is not told; what flaps every minute is told once, and closed when it is quiet', () => {
  const w = world();
  const degraded = cause({ settleMs: SETTLE, severity: 'warning' });
  w.at(START, [degraded]);
  for (let minute = 1; minute < 6; minute += 1) w.at(START + minute * MINUTE, []);
  expect([w.told, w.rows.size]).toEqual([[], 0]);
  for (let minute = 10; minute < 70; minute += 1) w.at(START + minute * MINUTE, minute % 2 === 0 ? [degraded] : []);
  expect(w.told).toEqual(['opened a']);
  for (let minute = 70; minute < 80; minute += 1) w.at(START + minute * MINUTE, []);
  expect(w.told).toEqual(['opened a', 'closed a']);
});

test('a cause that comes back again and again must be gone for longer each time: few messages, whatever its rhythm', () =>
  fc.assert(
    fc.property(fc.integer({ min: 1, max: 30 }), fc.integer({ min: 1, max: 30 }), (on, off) => {
      const w = world();
      for (let minute = 0; minute < 24 * 60; minute += 1) w.at(START + minute * MINUTE, minute % (on + off) < on ? [cause()] : []);
      expect(w.rows.size).toBe(1); // always the same notice
      expect(w.told.length).toBeLessThanOrEqual(14);
    }),
    { numRuns: 60 },
  ));

test('reminders come 30, 14, 7 and 1 days before the date, once each; acknowledged: only the last; snoozed: when it wakes', () => {
  const days = (prepare: (w: ReturnType<typeof world>) => void) => {
    const w = world();
    const expires = START + 40 * DAY;
    const seen: number[] = [];
    for (let hour = 0; hour <= 40 * 24; hour += 1) {
      const now = START + hour * (DAY / 24);
      const before = w.told.length;
      if (expires - now <= 31 * DAY) w.at(now, [cause({ kind: 'upcoming', dueAt: expires })]);
      if (before === 0 && w.told.length === 1) prepare(w);
      if (w.told.length > before) seen.push(Math.round((expires - now) / DAY));
    }
    return seen;
  };
  expect(days(() => undefined)).toEqual([31, 30, 14, 7, 1]);
  expect(days((w) => w.rows.set('1', { ...w.only(), acknowledgedBy: 'marit' }))).toEqual([31, 1]);
  expect(days((w) => w.rows.set('1', { ...w.only(), snoozedUntil: START + 30 * DAY }))).toEqual([31, 10, 7, 1]);
});

test('what becomes worse is told at once, also where it was acknowledged; what becomes less is not', () => {
  const w = world();
  w.at(START, [cause({ severity: 'warning' })]);
  w.rows.set('1', { ...w.only(), acknowledgedBy: 'marit' });
  w.at(START + MINUTE, [cause({ severity: 'action' })]);
  w.at(START + 2 * MINUTE, [cause({ severity: 'warning' })]);
  expect([w.told, w.only().acknowledgedBy, w.only().severity]).toEqual([['opened a', 'worse a'], null, 'warning']);
});

const rule = (of: Partial<ChannelRule> = {}): ChannelRule => ChannelRule.parse({ zone: 'Europe/Oslo', ...of });
const at = (text: string) => Date.parse(text);
test.each<[string, ChannelRule, severity: 'action' | 'warning' | 'info', labels: string[], now: string, planned: string | null]>([
  ['action needed: now', rule(), 'action', [], '2026-03-02T02:00:00Z', '2026-03-02T02:00:00Z'],
  ['a warning: with the digest of this morning', rule(), 'warning', [], '2026-03-02T02:00:00Z', '2026-03-02T07:00:00Z'],
  ['a warning after it: with the next', rule(), 'warning', [], '2026-03-02T07:00:00Z', '2026-03-03T07:00:00Z'],
  ['off', rule({ severities: { action: 'now', warning: 'off', info: 'off' } }), 'warning', [], '2026-03-02T02:00:00Z', null],
  ['another label', rule({ labels: ['ops'] }), 'action', ['sales'], '2026-03-02T02:00:00Z', null],
  ['one of its labels', rule({ labels: ['ops'] }), 'action', ['ops', 'sales'], '2026-03-02T02:00:00Z', '2026-03-02T02:00:00Z'],
  ['a label is wanted, and none is there', rule({ labels: ['ops'] }), 'action', [], '2026-03-02T02:00:00Z', null],
  ['quiet hours over midnight', rule({ quiet: { from: '22:00', to: '07:00' } }), 'action', [], '2026-03-02T23:30:00Z', '2026-03-03T06:00:00Z'],
  ['before them', rule({ quiet: { from: '22:00', to: '07:00' } }), 'action', [], '2026-03-02T20:59:00Z', '2026-03-02T20:59:00Z'],
  [
    'the night of daylight saving: quiet until 07:00 by the new time',
    rule({ quiet: { from: '22:00', to: '07:00' } }),
    'action',
    [],
    '2026-03-28T23:30:00Z',
    '2026-03-29T05:00:00Z',
  ],
  ['a time that daylight saving skips: an hour later', rule({ digest_at: '02:30' }), 'warning', [], '2026-03-28T23:30:00Z', '2026-03-29T01:30:00Z'],
  ['a time that comes twice: its first', rule({ digest_at: '02:30' }), 'warning', [], '2026-10-24T22:30:00Z', '2026-10-25T00:30:00Z'],
])('%s', (_name, given, severity, labels, now, planned) => {
  const found = plannedAt(given, { severity, labels }, at(now));
  expect(found === null ? null : new Date(found).toISOString().replace('.000', '')).toBe(planned);
});

test('quiet hours end within a day, and a digest comes within two, at any time in any zone', () =>
  fc.assert(
    fc.property(
      fc.constantFrom('UTC', 'Europe/Oslo', 'America/St_Johns', 'Pacific/Apia', 'Australia/Lord_Howe'),
      fc.integer({ min: at('2026-01-01T00:00:00Z'), max: at('2027-12-31T00:00:00Z') }),
      fc.integer({ min: 0, max: 1439 }),
      fc.integer({ min: 0, max: 1439 }),
      (zone, now, from, to) => {
        fc.pre(from !== to);
        const time = (minute: number) => `${String(Math.floor(minute / 60)).padStart(2, '0')}:${String(minute % 60).padStart(2, '0')}`;
        const given = rule({ zone, quiet: { from: time(from), to: time(to) }, digest_at: time(to) });
        const quiet = quietUntil(given, now);
        if (quiet !== null) expect(quiet - now).toSatisfy((ms: number) => ms > 0 && ms <= 25 * 3_600_000);
        const digest = plannedAt(given, { severity: 'warning', labels: [] }, now) ?? 0;
        expect(digest - now).toSatisfy((ms: number) => ms > 0 && ms <= 49 * 3_600_000);
      },
    ),
  ));

test('a letter: the worst first, 20 in full, one link, and what others wrote stays text in one line', () => {
  const notice = (title: string, severity: Cause['severity']) => ({ ...cause({ title, severity }), id: 'n1', openedAt: START, closedAt: null });
  const hostile = 'Reject <img src=x onerror=alert(1)>\nBcc: all@elsewhere.example';
  const many = Array.from({ length: 30 }, (_none, n) => ({ event: 'opened' as const, notice: notice(`Warning ${n}`, 'warning'), page: `/notices/n${n}` }));
  const letter = noticeLetter([...many, { event: 'opened', notice: notice(hostile, 'action'), page: '/notices/n1' }], {
    url: 'https://k.example',
    zone: 'UTC',
  });
  expect(letter.subject).toBe('Action needed: Reject <img src=x onerror=alert(1)> Bcc: all@elsewhere.example (and 30 more)');
  expect(letter.text).toContain('11 more are listed in the console.');
  expect(letter.text.match(/https?:/g)).toHaveLength(1);
  expect(letter.html.match(/<a /g)).toHaveLength(1);
  expect(letter.html).not.toContain('<img');
  const fixed = noticeLetter([{ event: 'closed', notice: { ...notice('It stopped', 'action'), closedAt: START }, page: '/notices/n1' }], {
    url: 'https://k.example',
    zone: 'Europe/Oslo',
  });
  expect(fixed.text).toBe('Fixed: It stopped\n  Fixed: March 1, 2026, 10:00 GMT+1\n\nDetails: https://k.example/#/notices/n1\n');
});

test.each([
  ['grant', 'Grant of sailings (ane@post.example)', 1, 'Grant of sailings expires'],
  ['grant', 'Grant of sailings (ane@post.example)', -1, 'Grant of sailings has expired'],
  ['grant', 'Grants of 3 people of crew, the first', 1, 'Grants of 3 people of crew expire'],
  ['grant', 'Grants of 1 person of crew, the first', 1, 'Grants of 1 person of crew expires'],
  ['invitations', '1 unused invitation to crew, the first', 1, '1 unused invitation to crew expires'],
  ['invitations', '12 unused invitations to crew, the first', 1, '12 unused invitations to crew expire'],
  ['caller_key', 'Last key of the caller board (spring)', 1, 'Last key of the caller board (spring) expires'],
] as const)('%s: %s, as a title that names no account', (kind, what, at, title) => expect(upcomingTitle({ kind, what, at }, 0)).toBe(title));
