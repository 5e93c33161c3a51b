import { hash } from 'node:crypto';
import { setImmediate as turn } from 'node:timers/promises';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { ChangeKind } from '../store/changes.ts';
import { callerDirectory } from './caller-directory.ts';

const NAMES = ['a', 'b', 'c'];
const KEY = 'rkk_x';
const ID = '00000000-0000-7000-8000-000000000000';

/** A database in which connections change and reads take their time, each seeing what was there when it began; and the directory on it. */
function setUp(waits: number[]) {
  const scopes: Record<string, number> = Object.fromEntries(NAMES.map((name) => [name, 0]));
  const permitted = new Set(['a', 'b']);
  let reads = 0;
  const slowly = async <T>(rows: T): Promise<T> => {
    const turns = waits[reads % waits.length] ?? 0;
    reads += 1;
    for (let at = 0; at < turns; at += 1) await turn();
    return rows;
  };
  const row = (name: string) => ({
    id: Buffer.alloc(16, name),
    name,
    intent: 'active',
    own_placeholders: null,
    grant_id: Buffer.alloc(16, 1),
    kind: 'authorization_code',
    scopes: JSON.stringify([`v${scopes[name]}`]),
    api_base_url: null,
    client_record: Buffer.alloc(16, 2),
    environment: 'live',
    variant: null,
    rehearsal_port: null,
    placeholders: '{}',
    trusted_origins: null,
    version_id: Buffer.alloc(16, 3),
    use_as: 'any',
    methods: null,
    paths: null,
    share: null,
    people: 'none',
  });
  const known = { id: ID, name: 'board', tokenPath: null, redirectUris: [], keepsNoSecret: false, byLabel: true };
  const keys = [{ id: ID, hash: hash('sha256', KEY, 'buffer'), endsAt: null }];
  const store = {
    callers: { tokenPaths: () => slowly([]), publicRedirectUris: () => slowly([]), withKeys: (callerId: string) => slowly({ ...known, callerId, keys }) },
    definitionUses: {
      permitted: () => slowly([...permitted].map(row)),
      permittedOf: (_caller: string, names: string[]) => slowly([...permitted].filter((name) => names.includes(name)).map(row)),
    },
  };
  const listeners: ((kind: ChangeKind, subject: string) => void)[] = [];
  const directory = callerDirectory({
    store: store as never,
    changes: { onChange: (listener: (typeof listeners)[number]) => void listeners.push(listener) } as never,
    definitions: async () => ({ definition: { apis: [], dialect: {} }, values: {}, environment: 'live', unconfirmed: [] }) as never,
    ports: { clock: { now: () => 0 }, log: { debug: () => undefined } } as never,
  });
  const tell = (kind: ChangeKind, subject: string) => {
    for (const listener of listeners) listener(kind, subject);
  };
  const seen = async () =>
    Object.fromEntries([...((await directory.check('id', KEY))?.caller.connections ?? [])].map(([name, one]) => [name, one.scope]).sort());
  const truth = () => Object.fromEntries([...permitted].sort().map((name) => [name, `v${scopes[name]}`]));
  return { scopes, permitted, directory, tell, seen, truth };
}

test('whatever changes while it is read, in whatever order the reads come back: once all is quiet, what is known is what is there', async () => {
  const step = fc.oneof(
    fc.record({ do: fc.constant('change' as const), name: fc.constant('a') }),
    fc.record({ do: fc.constant('change' as const), name: fc.constantFrom(...NAMES) }),
    fc.record({ do: fc.constant('label' as const), name: fc.constantFrom(...NAMES) }),
    fc.record({ do: fc.constant('all' as const), name: fc.constant('') }),
    fc.record({ do: fc.constant('ask' as const), name: fc.constant('') }),
    fc.record({ do: fc.constant('wait' as const), name: fc.constant('') }),
  );
  await fc.assert(
    fc.asyncProperty(
      fc.array(step, { minLength: 3, maxLength: 25 }),
      fc.array(fc.integer({ min: 0, max: 6 }), { minLength: 1, maxLength: 12 }),
      async (steps, waits) => {
        const world = setUp(waits);
        await world.seen(); // known from now on
        const asked: Promise<unknown>[] = [];
        for (const one of steps) {
          if (one.do === 'change') world.scopes[one.name] = (world.scopes[one.name] ?? 0) + 1;
          if (one.do === 'label' && !world.permitted.delete(one.name)) world.permitted.add(one.name);
          if (one.do === 'change' || one.do === 'label') world.tell('connection', one.name);
          if (one.do === 'all') world.tell('caller', 'board');
          if (one.do === 'ask') asked.push(world.seen());
          if (one.do === 'wait') await turn();
        }
        await Promise.all(asked);
        expect(await world.seen()).toEqual(world.truth());
        expect(world.directory.checkKnown('id', KEY)?.caller.name).toBe('board'); // and it is known: requested without a read
        expect(await world.seen()).toEqual(world.truth());
      },
    ),
    { numRuns: 400 },
  );
});
