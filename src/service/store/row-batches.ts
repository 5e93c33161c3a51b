import { applyUpdate, type ConditionalUpdate, type Value } from '../../core/renewal/conditional-update.ts';
import type { RenewalColumn } from '../../core/renewal/row.ts';
import { batched } from './batched.ts';
import { type Bind, type Database, idBytes } from './database.ts';
import type { HeldRow, SealedTokens } from './held-row.ts';
import { raised, type SaveCount } from './marks.ts';
import { compile } from './transition-sql.ts';

const BATCHES = { most: 64, atOnce: 2, worth: 32, patienceMs: 50 };

/** One row of a batch: its id, its constants in order, and the statement's text without them. */
interface Templated {
  grantId: string;
  values: Bind[];
  shape: string;
}
export interface ToSave {
  grantId: string;
  transition: ConditionalUpdate;
  tokens: SealedTokens | null;
}

const WHERE = ' WHERE ';
const isSame = (a: Bind, b: Bind): boolean => a === b || (Buffer.isBuffer(a) && Buffer.isBuffer(b) && a.equals(b));

function template({ grantId, transition, tokens }: ToSave): Templated {
  const values: Bind[] = [];
  const place = (value: Bind): string => `v.p${values.push(value)}`;
  const { set, where } = compile(transition, place);
  const access = tokens ? `, t.access_sealed = ${place(tokens.accessSealed)}` : '';
  const refresh = tokens?.refreshSealed ? `, t.refresh_sealed = ${place(tokens.refreshSealed)}` : '';
  return { grantId, values, shape: `SET ${set}${access}${refresh}${WHERE}${where}` };
}

/** Arms and saves that come up at the same moment, each kind in statements of many rows. True: it took hold of its own row. */
export function rowBatches(
  database: Database,
  count: SaveCount,
  readMany: (grantIds: string[]) => Promise<HeldRow[]>,
): { arm(one: ToSave): Promise<boolean>; save(one: ToSave): Promise<boolean> } {
  /** Raises a mark of this replica in the same statement (core/renewal/ground.ts); the rows that it changed besides. */
  const written = async (kind: 'save' | 'arm', { assignments, these, bind }: { assignments: string; these: string; bind: Bind[] }): Promise<number> => {
    const tables = `UPDATE renewals r FORCE INDEX (PRIMARY)${kind === 'save' ? ' JOIN tokens t ON t.grant_id = r.grant_id' : ''}`;
    const mark = count.take(kind);
    if (!mark) return database.write(`${tables} ${assignments}${WHERE}${these}`, bind);
    try {
      const joined = raised(kind, mark, (value) => `$${bind.push(value)}`);
      const changed = await database.write(`${tables} ${joined} ${assignments}, k.mark = k.mark + 1${WHERE}${these}`, bind);
      mark.done(changed > 0 && database.around() === undefined ? 'raised' : 'none');
      return Math.max(0, changed - 1);
    } catch (cause) {
      mark.done('unknown');
      throw cause;
    }
  };
  /** Rows of one shape in one UPDATE: each with its own condition and values. True for those of which it took hold. */
  const runShape = async (items: Templated[], withTokens: boolean, tookHold: (held: HeldRow, item: Templated) => boolean): Promise<Map<string, boolean>> => {
    const sorted = [...items].sort((a, b) => (a.grantId < b.grantId ? -1 : 1)); // one order for all: fewer deadlocks
    const ids = sorted.map((one) => idBytes(one.grantId));
    const bind: Bind[] = [ids.map((id) => id.toString('hex').toUpperCase()).join(',')];
    const row = 'FIND_IN_SET(HEX(r.grant_id), $1)';
    // A list of values, and the row's place in it: a derived table of as many rows costs MariaDB twenty times as much.
    const shape = (sorted[0]?.shape ?? '').replace(/\bv\.p(\d+)\b/g, (_all, column: string) => {
      const values = sorted.map((one) => one.values[Number(column) - 1] ?? null);
      if (values.every((value) => isSame(value, values[0] ?? null))) return `$${bind.push(values[0] ?? null)}`;
      return `ELT(${row}, ${values.map((value) => `$${bind.push(value)}`).join(', ')})`;
    });
    const [assignments, condition] = shape.split(WHERE) as [string, string];
    const these = `r.grant_id IN (${ids.map((id) => `$${bind.push(id)}`).join(', ')}) AND ${condition}`;
    const changed = await written(withTokens ? 'save' : 'arm', { assignments, these, bind });
    // Every row that is taken changes in each of its tables, so that a full count says that all were.
    if (changed === items.length * (withTokens ? 2 : 1)) return new Map(items.map((one) => [one.grantId, true]));
    if (changed === 0) return new Map(items.map((one) => [one.grantId, false]));
    const held = new Map((await readMany(items.map((one) => one.grantId))).map((one) => [one.grantId, one]));
    return new Map(items.map((one) => [one.grantId, held.has(one.grantId) && tookHold(held.get(one.grantId) as HeldRow, one)]));
  };
  const runBatch = async (items: ToSave[], tookHold: (held: HeldRow, transition: ConditionalUpdate) => boolean): Promise<boolean[]> => {
    const firsts = new Map<string, ToSave>();
    for (const item of items) if (!firsts.has(item.grantId)) firsts.set(item.grantId, item);
    const byShape = new Map<string, Templated[]>();
    for (const item of firsts.values()) {
      const one = template(item);
      byShape.set(one.shape, [...(byShape.get(one.shape) ?? []), one]);
    }
    const results = new Map<ToSave, boolean>();
    for (const group of byShape.values()) {
      const of = (one: Templated) => firsts.get(one.grantId) as ToSave;
      const withTokens = group.some((one) => of(one).tokens !== null);
      const took = await runShape(group, withTokens, (row, one) => tookHold(row, of(one).transition));
      for (const one of group) results.set(of(one), took.get(one.grantId) ?? false);
    }
    // A second transition of the same row does not go into the same statement.
    for (const item of items) if (!results.has(item)) results.set(item, (await runBatch([item], tookHold))[0] ?? false);
    return items.map((item) => results.get(item) ?? false);
  };
  const constantOf = (transition: ConditionalUpdate, column: RenewalColumn): Value => {
    const given = transition.set[column];
    return given && 'value' in given ? given.value : null;
  };
  // An arm does not touch its own condition: what holds it now, and is marked as sent, was armed.
  const armTook = ({ row, readAt }: HeldRow, arm: ConditionalUpdate) =>
    row.sentEpoch === constantOf(arm, 'sentEpoch') && row.sentBy === constantOf(arm, 'sentBy') && applyUpdate(arm, row, readAt) !== null;
  const saveTook = ({ row }: HeldRow, save: ConditionalUpdate) =>
    (['savedEpoch', 'generation', 'parentGeneration'] as const).every((column) => row[column] === constantOf(save, column));
  return { arm: batched((items) => runBatch(items, armTook), BATCHES), save: batched((items) => runBatch(items, saveTook), BATCHES) };
}
