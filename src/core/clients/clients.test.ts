import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { Operation } from '../provider/api.ts';
import type { Scope } from '../provider/definition.ts';
import { type KnownSecret, SECRET_STATES, secretInWords, usableSecrets } from './choose-secret.ts';
import { allows, privilegeOf, scopesFor, weakerClient } from './privilege.ts';

const NOW = 1_000_000;
const secret = (id: string, more: Partial<KnownSecret> = {}): KnownSecret => ({
  id,
  kind: 'secret',
  state: 'active',
  startsAt: 0,
  endsAt: null,
  enteredAt: 0,
  refusedAt: null,
  ...more,
});
test.each([
  { name: 'the current one before the one in reserve', all: [secret('old', { state: 'former' }), secret('new')], order: ['new', 'old'] },
  { name: 'a rejected one after one in reserve', all: [secret('new', { refusedAt: 5 }), secret('old', { state: 'former' })], order: ['old', 'new'] },
  {
    name: 'of rejected ones, the one rejected longest ago',
    all: [secret('a', { refusedAt: 9 }), secret('b', { state: 'rejected', refusedAt: 5 })],
    order: ['b', 'a'],
  },
  { name: 'past its end is better than nothing', all: [secret('a', { endsAt: 5 })], order: ['a'] },
  { name: 'past its end after one not proved', all: [secret('a', { endsAt: 5 }), secret('b', { state: 'unverified' })], order: ['b', 'a'] },
  { name: 'not begun yet: not at all', all: [secret('a', { startsAt: NOW + 1 }), secret('b', { state: 'former' })], order: ['b'] },
  { name: 'retired: not at all', all: [secret('a', { state: 'retired' })], order: [] },
  { name: 'a key is none where secrets are requested', all: [secret('a', { kind: 'key' })], order: [] },
])('$name', ({ all, order }) => expect(usableSecrets(all, ['secret', 'password'], NOW).map((one) => one.id)).toEqual(order));

test.each([
  [secret('a'), 'In use for 400 days, and no end is known'],
  [secret('a', { endsAt: 5 }), 'though its end has passed'],
  [secret('a', { enteredAt: 399 * 86_400_000 }), 'In use.'],
  [secret('a', { state: 'unverified', startsAt: 1e12 }), 'Waits for its beginning'],
  [secret('a', { state: 'unverified', waits: true }), 'upload its public part'],
])('a secret says what comes next', (one, says) => expect(secretInWords(one, 400 * 86_400_000)).toContain(says));

test('the order never depends on how they were listed, and the first is never a rejected one while another is not', () => {
  const any = fc.record({
    state: fc.constantFrom(...SECRET_STATES),
    startsAt: fc.nat(2 * NOW),
    endsAt: fc.option(fc.nat(2 * NOW), { nil: null }),
    enteredAt: fc.nat(NOW),
    refusedAt: fc.option(fc.nat(NOW), { nil: null }),
  });
  fc.assert(
    fc.property(fc.array(any, { maxLength: 6 }), fc.nat(), (list, turn) => {
      const all = list.map((one, at) => secret(String(at), { ...one, enteredAt: one.enteredAt * 10 + at }));
      const turned = [...all.slice(turn % (all.length || 1)), ...all.slice(0, turn % (all.length || 1))];
      const order = usableSecrets(all, ['secret'], NOW);
      expect(usableSecrets(turned, ['secret'], NOW).map((one) => [one.state, one.refusedAt])).toEqual(order.map((one) => [one.state, one.refusedAt]));
      if (order.some((one) => one.refusedAt === null)) expect(order[0]?.refusedAt).toBeNull();
    }),
  );
});

const scope = (name: string, power: Scope['power'], more: Partial<Scope> = {}): Scope => ({
  name,
  says: name,
  power,
  acts_for: 'person',
  organization: false,
  preset: false,
  ...more,
});
const CATALOGUE = [
  scope('r', 'read'),
  scope('r.org', 'read', { organization: true }),
  scope('w', 'write'),
  scope('all', 'admin'),
  scope('me', 'identity'),
  scope('bot', 'write', { acts_for: 'itself' }),
];
const operation = (id: string, ...needs: string[][]): Operation => ({ id, method: 'GET', path: '/', says: '', needs, weight: 1, parameters: [] });

test.each([
  { registered: ['me', 'r'], type: 'web', power: 'read', says: 'reads, for the person' },
  { registered: ['r', 'all'], type: 'web', power: 'admin', says: 'administers, for the person' },
  { registered: ['bot'], type: 'web', power: 'write', says: 'for itself: over all accounts' },
  { registered: ['r'], type: 'service_account', power: 'read', says: 'for itself' },
  { registered: ['r', 'own.thing'], type: 'web', power: 'read', says: '1 of its own making' },
  { registered: [], type: 'web', power: null, says: 'Not known' },
])('a $type client with $registered: $says', ({ registered, type, power, says }) =>
  expect(privilegeOf(CATALOGUE, registered, type)).toMatchObject({ power, says: expect.stringContaining(says) }),
);

test.each([
  { name: 'the weakest of several', operations: [operation('a', ['all'], ['w'], ['r'])], scopes: ['r'] },
  { name: 'what another needs anyway costs nothing', operations: [operation('a', ['r'], ['w']), operation('b', ['w'])], scopes: ['w'] },
  { name: 'without the organization where one can choose', operations: [operation('a', ['r.org'], ['r'])], scopes: ['r'] },
  { name: 'all of a list', operations: [operation('a', ['r', 'me'])], scopes: ['me', 'r'] },
  { name: 'nothing for what needs nothing', operations: [operation('a')], scopes: [] },
])('scopes for operations: $name', ({ operations, scopes }) => expect(scopesFor(CATALOGUE, operations).scopes).toEqual(scopes));

test('the scopes chosen always allow every operation', () => {
  const names = fc.subarray(
    CATALOGUE.map((one) => one.name),
    { minLength: 1, maxLength: 3 },
  );
  fc.assert(
    fc.property(fc.array(fc.array(names, { maxLength: 3 }), { maxLength: 5 }), (needs) => {
      const operations = needs.map((one, at) => operation(`o${at}`, ...one));
      const { scopes } = scopesFor(CATALOGUE, operations);
      for (const one of operations) expect(allows(scopes, one)).toBe(true);
    }),
  );
});

test('a weaker client is proposed only where it does for all ticked operations', () => {
  const strong = { name: 'strong', type: 'web', registered: ['r', 'all'] };
  const weak = { name: 'weak', type: 'web', registered: ['r'] };
  const reads = [operation('a', ['r'], ['all'])];
  expect(weakerClient(CATALOGUE, strong, [strong, weak], reads)).toBe('weak');
  expect(weakerClient(CATALOGUE, strong, [strong, weak], [...reads, operation('b', ['all'])])).toBeNull();
  expect(weakerClient(CATALOGUE, weak, [strong, weak], reads)).toBeNull();
  expect(weakerClient(CATALOGUE, strong, [strong, weak], [])).toBeNull();
});
