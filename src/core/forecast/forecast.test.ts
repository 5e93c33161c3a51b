import fc from 'fast-check';
import ICAL from 'ical.js';
import { describe, expect, test } from 'vitest';
import { type CalendarEntry, calendar, folded, reconcileCalendar } from './calendar.ts';
import { type ClientFacts, type Facts, forecast, type GrantFacts } from './forecast.ts';
import { diskFullAt, quotaEndsAt, type ScheduledQuota } from './running-out.ts';

const DAY_MS = 86_400_000;
const NOW = Date.UTC(2026, 10, 29);
const until = NOW + 90 * DAY_MS;
const breaks = { connections: 2, examples: ['sailings'], callers: ['board'], jobs: [] };
const client = (more: Partial<ClientFacts>): ClientFacts => ({
  id: 'c1',
  provider: 'eelgrass',
  name: 'timetable',
  secrets: [],
  approval: { state: 'not_needed', expectedAt: null },
  needsApproval: false,
  labels: ['ops'],
  breaks,
  ...more,
});
const grant = (more: Partial<GrantFacts>): GrantFacts => ({
  consentedAt: 0,
  id: 'g1',
  connection: 'sailings',
  shared: null,
  account: 'Marit Holm',
  lifeEndsAt: null,
  phaseEndsAt: null,
  isStandby: false,
  labels: [],
  breaks,
  ...more,
});
const facts = (more: Partial<Facts>): Facts => ({
  ...{ clients: [], grants: [], callerKeys: [], invitations: [], quotas: [], serverCertificate: null, disks: [] },
  ...more,
});
const secret = (days: number | null, kind = 'secret') => ({ kind, label: '', endsAt: days === null ? null : NOW + days * DAY_MS });
const of = (more: Partial<Facts>) => forecast(facts(more), NOW, until);

describe('secrets', () => {
  test.each([
    ['one that ends', [secret(20)], [20]],
    ['one that never ends', [secret(null)], []],
    ['an old one beside one that lasts longer: the last counts', [secret(5), secret(60)], [60]],
    ['an old one beside one that never ends', [secret(5), secret(null)], []],
    ['one that ends after the horizon', [secret(91)], []],
    ['one that has ended: late, and shown', [secret(-3)], [-3]],
    ['none', [], []],
  ])('%s', (_name, secrets, days) => {
    const found = of({ clients: [client({ secrets })] });
    expect(found.map((one) => (one.at - NOW) / DAY_MS)).toEqual(days);
    for (const one of found)
      expect(one).toMatchObject({ kind: 'client_secret', who: 'operator', certainty: 'known', breaks, labels: ['ops'], actBy: one.at - 7 * DAY_MS });
  });
  test('a certificate that needs approval begins two weeks earlier', () => {
    const [found] = of({ clients: [client({ secrets: [secret(40, 'certificate')], needsApproval: true })] });
    expect(found).toMatchObject({ kind: 'certificate', actBy: NOW + 26 * DAY_MS });
  });
});

test('an approval that is overdue is late; one with info requested is for the operator, now', () => {
  expect(of({ clients: [client({ approval: { state: 'requested', expectedAt: NOW - 2 * DAY_MS } })] })).toMatchObject([
    { kind: 'approval', who: 'provider', at: NOW - 2 * DAY_MS },
  ]);
  expect(of({ clients: [client({ approval: { state: 'info_requested', expectedAt: null } })] })).toMatchObject([
    { kind: 'approval', who: 'operator', at: NOW },
  ]);
  expect(of({ clients: [client({ approval: { state: 'requested', expectedAt: null } })] })).toEqual([]);
});

test('a grant ends by whichever comes first; people of one shared connection are one entry with the first date', () => {
  expect(of({ grants: [grant({ lifeEndsAt: NOW + 50 * DAY_MS, phaseEndsAt: NOW + 7 * DAY_MS })] })).toMatchObject([
    { kind: 'test_phase', at: NOW + 7 * DAY_MS, who: 'person' },
  ]);
  expect(of({ grants: [grant({ lifeEndsAt: NOW + 50 * DAY_MS, isStandby: true })] })).toMatchObject([{ kind: 'standby', breaks: { connections: 0 } }]);
  const people = [30, 10, 20].map((days, at) => grant({ id: `p${at}`, connection: `crew@${at}`, shared: 'crew', lifeEndsAt: NOW + days * DAY_MS }));
  expect(of({ grants: people })).toMatchObject([
    { key: 'people-crew-grant', at: NOW + 10 * DAY_MS, breaks: { connections: 3 }, command: 'rk person list crew' },
  ]);
});

test('only the last key of a caller stops it', () => {
  const key = { labels: [], id: 'k', caller: 'board', label: 'old', endsAt: NOW + DAY_MS, breaks };
  expect(of({ callerKeys: [{ ...key, isLast: false }] })).toEqual([]);
  expect(of({ callerKeys: [{ ...key, isLast: true }] })).toMatchObject([{ kind: 'caller_key', page: '/callers/board/keys' }]);
});

test('whatever the facts: sorted, within the horizon, never two entries of one key, the same tomorrow', () =>
  fc.assert(
    fc.property(
      fc.array(fc.tuple(fc.integer({ min: -40, max: 200 }), fc.boolean()), { maxLength: 12 }),
      fc.array(fc.option(fc.integer({ min: -40, max: 200 })), { maxLength: 6 }),
      (ends, secrets) => {
        const all = facts({
          grants: ends.map(([days, isShared], at) =>
            grant({ id: `g${at}`, connection: `c${at}`, shared: isShared ? 'crew' : null, lifeEndsAt: NOW + days * DAY_MS }),
          ),
          clients: secrets.map((days, at) => client({ id: `c${at}`, secrets: [secret(days)] })),
        });
        const found = forecast(all, NOW, until);
        expect(found.map((one) => one.at)).toEqual(found.map((one) => one.at).sort((a, b) => a - b));
        expect(found.every((one) => one.at <= until && one.actBy <= one.at)).toBe(true);
        expect(new Set(found.map((one) => one.key)).size).toBe(found.length);
        expect(forecast(all, NOW + DAY_MS, until).map((one) => [one.key, one.at])).toEqual(found.map((one) => [one.key, one.at]));
      },
    ),
  ));

describe('what goes on as before runs out', () => {
  const quota = (left: number, runs: [hours: number, cost: number][]): ScheduledQuota => ({
    ...{
      scope: 'client:1:forum:day:points',
      connection: 'forum',
      title: 'Forum',
      most: 100,
      left,
      resetsAt: NOW + 12 * 3_600_000,
      windowMs: DAY_MS,
      labels: [],
    },
    runs: runs.map(([hours, cost]) => ({ job: 'threads', connection: 'forum', labels: [], at: NOW + hours * 3_600_000, cost })),
  });
  test.each<[string, number, [number, number][], number | null]>([
    [
      'enough for all',
      60,
      [
        [1, 20],
        [2, 20],
        [3, 20],
      ],
      null,
    ],
    [
      'used up by the third run',
      50,
      [
        [1, 20],
        [2, 20],
        [3, 20],
      ],
      3,
    ],
    ['used up already', 0, [[1, 1]], 1],
    [
      'enough today, too little on a whole day',
      100,
      [
        [1, 20],
        [13, 60],
        [14, 60],
      ],
      14,
    ],
    ['what comes after the next reset is not looked at', 100, [[40, 500]], null],
    ['no runs', 0, [], null],
  ])('a quota: %s', (_name, left, runs, hours) => {
    const ends = quotaEndsAt(quota(left, runs));
    expect(ends && (ends.at - NOW) / 3_600_000).toBe(hours);
    expect(of({ quotas: [quota(left, runs)] }).map((one) => one.kind)).toEqual(hours === null ? [] : ['quota']);
  });
  const disk = (freeMb: number[], totalMb = 100_000) => ({
    ...{ instance: '01a2', folder: '/var/lib' },
    levels: freeMb.map((free, at) => ({ at: NOW - (freeMb.length - 1 - at) * DAY_MS, freeMb: free, totalMb })),
  });
  test.each<[string, number[], number | null]>([
    ['shrinks by 1,000 MB a day', [30_512, 29_512, 28_512, 27_512, 26_512], 26],
    ['stays', [30_000, 30_000, 30_000, 30_000, 30_000], null],
    ['grows free', [10_000, 20_000, 30_000, 40_000], null],
    ['watched for too short a time', [30_000, 20_000, 10_000], null],
    ['full', [300], 0],
    ['a night\u2019s backup that comes and goes', [30_000, 20_000, 30_000, 20_000, 30_000], null],
  ])('a disk: %s', (_name, freeMb, days) => {
    const at = diskFullAt(disk(freeMb));
    expect(at && Math.round((at - NOW) / DAY_MS)).toBe(days === 0 ? 0 : days);
    expect(of({ disks: [disk(freeMb)] })).toHaveLength(days === null ? 0 : 1);
  });
  test('the certificate of the public address', () => {
    expect(of({ serverCertificate: { host: 'kettle.example', endsAt: NOW + 20 * DAY_MS } })).toMatchObject([
      { kind: 'server_certificate', what: 'TLS certificate of kettle.example', actBy: NOW + 13 * DAY_MS },
    ]);
  });
  test('a short life has a short lead, and is no notice from its first minute', () => {
    const [found] = of({ grants: [grant({ consentedAt: NOW, phaseEndsAt: NOW + 4 * DAY_MS })] });
    expect(found).toMatchObject({ kind: 'test_phase', actBy: NOW + 3 * DAY_MS, noticeAt: NOW + 2 * DAY_MS });
  });
});

describe('the calendar (RFC 5545)', () => {
  const odd = 'Ends; soon, “ü” \\ and\na second line that is long enough to be folded more than once, whatever it says';
  const at = { host: 'kettle.example:7420', url: 'https://kettle.example', now: NOW };
  test('a parser reads what was written: dates, texts, alarms', () => {
    const [one] = of({ clients: [client({ name: odd, secrets: [secret(20)] })] });
    const parsed = new ICAL.Component(ICAL.parse(calendar(one ? [one] : [], [], at)));
    const [event] = parsed.getAllSubcomponents('vevent');
    const read = new ICAL.Event(event as ICAL.Component);
    expect(read.uid).toBe('secret-c1@kettle.example:7420');
    expect(read.summary).toBe(`Client secret of eelgrass/${odd} expires`);
    expect([read.startDate.isDate, read.startDate.toString()]).toEqual([true, '2026-12-19']);
    expect(read.description).toContain('Begin by 2026-12-12.\nStops: sailings');
    expect(event?.getFirstSubcomponent('valarm')?.getFirstPropertyValue('trigger')?.toString()).toBe('-P7D');
  });
  test('whatever happens to an entry, a calendar that reads now and then ends up with what stands: moved, canceled, come back', () =>
    fc.assert(
      fc.property(fc.array(fc.constantFrom(null, 10, 20, 30, 40), { minLength: 2, maxLength: 12 }), (days) => {
        const [kept, had] = [new Map<string, CalendarEntry>(), new Map<string, { sequence: number; at: string | null }>()];
        for (const [turn, day] of days.entries()) {
          const items = day === null ? [] : of({ clients: [client({ secrets: [secret(day)] })] });
          const now = NOW + turn * DAY_MS;
          const { all, changed } = reconcileCalendar([...kept.values()], items, now);
          for (const one of changed) kept.set(one.key, one);
          const parsed = new ICAL.Component(ICAL.parse(calendar(items, all, { ...at, now })));
          for (const event of parsed.getAllSubcomponents('vevent')) {
            const [uid, sequence] = [String(event.getFirstPropertyValue('uid')), Number(event.getFirstPropertyValue('sequence'))];
            const isCanceled = event.getFirstPropertyValue('status') === 'CANCELLED';
            const before = had.get(uid);
            const present = isCanceled ? null : String(event.getFirstPropertyValue('dtstart'));
            // A calendar takes what has the same sequence for what it has already.
            if (before && before.at !== present) expect(sequence).toBeGreaterThan(before.sequence);
            had.set(uid, { sequence, at: present });
          }
          const standing = [...had.values()].filter((one) => one.at !== null);
          expect(standing).toHaveLength(day === null ? 0 : 1);
        }
      }),
    ));
  test('a canceled entry is told for 30 days, then forgotten', () => {
    const told = [{ key: 'secret-c1', summary: 'One expires', at: NOW, sequence: 3, canceledAt: null }];
    const [canceled] = reconcileCalendar(told, [], NOW).changed;
    expect(canceled).toMatchObject({ sequence: 4, canceledAt: NOW });
    expect(reconcileCalendar([canceled as CalendarEntry], [], NOW + 29 * DAY_MS).all).toHaveLength(1);
    expect(reconcileCalendar([canceled as CalendarEntry], [], NOW + 31 * DAY_MS).all).toHaveLength(0);
  });
  test('no line is longer than 75 octets, and unfolding gives the text back', () =>
    fc.assert(
      fc.property(
        fc.string({ unit: 'grapheme', maxLength: 300 }).filter((text) => !/[\r\n]/.test(text)),
        (text) => {
          const lines = folded(text).split('\r\n');
          expect(lines.every((line) => Buffer.byteLength(line) <= 75)).toBe(true);
          expect(lines.join('\r\n').replace(/\r\n /g, '')).toBe(text);
        },
      ),
    ));
});
