import { expect, test } from 'vitest';
import type { Notice } from '../../api/notices.ts';
import { byUrgency, ChannelDraft, countShown, takenBy } from './notices.svelte.ts';

const NOW = Date.parse('2026-05-01T08:00:00Z');
const notice = (of: Partial<Notice>): Notice => ({
  ...{
    id: 'n',
    kind: 'connections',
    severity: 'warning',
    state: 'open',
    subject: 's',
    title: 't',
    evidence: '',
    remedy: '',
    page: '/',
    command: '',
    labels: [],
  },
  ...{ connections: 0, due_at: null, opened_at: '2026-05-01T07:00:00Z', closed_at: null, acknowledged_by: null, acknowledged_at: null, assigned_to: null },
  ...{ snoozed_until: null, returns: 0, ...of },
});

test('the worst first, then what stops first, then the newest', () => {
  const all = [
    notice({ id: 'old' }),
    notice({ id: 'new', opened_at: '2026-05-01T07:30:00Z' }),
    notice({ id: 'dated', due_at: '2026-05-20T00:00:00Z' }),
    notice({ id: 'info', severity: 'info' }),
    notice({ id: 'action', severity: 'action' }),
  ];
  expect(all.sort(byUrgency).map((one) => one.id)).toEqual(['action', 'dated', 'new', 'old', 'info']);
});

test.each([
  ['nobody', {}, ''],
  ['acknowledged', { acknowledged_by: 'marit' }, 'acknowledged by marit'],
  ['snoozed', { acknowledged_by: 'marit', snoozed_until: '2026-05-02T08:00:00Z' }, 'snoozed'],
  ['no longer snoozed', { snoozed_until: '2026-04-30T08:00:00Z' }, ''],
  ['assigned', { assigned_to: 'tom', acknowledged_by: 'marit' }, 'assigned to tom'],
])('who has taken it on: %s', (_name, of, words) => expect(takenBy(notice(of), NOW)).toBe(words));

test('the menu shows what needs action, else warnings, and never mere information', () => {
  expect(countShown(undefined)).toBeNull();
  expect(countShown({ action: 2, warning: 5, info: 1 })).toEqual({ count: 2, tone: 'bad' });
  expect(countShown({ action: 0, warning: 5, info: 1 })).toEqual({ count: 5, tone: 'quiet' });
  expect(countShown({ action: 0, warning: 0, info: 3 })).toBeNull();
});

test('a channel as typed: lists as people paste them, and only what belongs to its kind', () => {
  const draft = new ChannelDraft();
  Object.assign(draft, { name: ' ops ', to: 'a@b.example, c@d.example', labels: 'ops\nlive', zone: 'Europe/Oslo', quiet: true, secret: 'never sent by mail' });
  expect(draft.body).toEqual({
    kind: 'mail',
    name: 'ops',
    to: ['a@b.example', 'c@d.example'],
    rule: {
      severities: { action: 'now', warning: 'digest', info: 'digest' },
      labels: ['ops', 'live'],
      zone: 'Europe/Oslo',
      digest_at: '08:00',
      quiet: { from: '22:00', to: '07:00' },
    },
  });
  Object.assign(draft, { kind: 'webhook', url: ' https://a.example/x ', secret: '' });
  expect(draft.body).not.toHaveProperty('signing_secret');
  expect(draft.body).toMatchObject({ kind: 'webhook', url: 'https://a.example/x' });
});
