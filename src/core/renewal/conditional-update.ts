import type { RenewalColumn, RenewalRow } from './row.ts';

/**
 * A transition of the protocol as data: one conditional update of one renewal row. The same value is run against memory
 * (tests, the model) by `applyUpdate` and compiled to one autocommit UPDATE by the store, so that what was checked is what runs.
 * Every expression reads the row as it was before the update.
 */
export type Value = null | number | string | boolean;

export type Expression =
  | { value: Value }
  | { instant: number }
  | { column: RenewalColumn }
  | { now: number }
  | { plus: [RenewalColumn, number] }
  | { coalesce: [RenewalColumn, RenewalColumn] }
  | { when: Check[]; gives: Expression; otherwise: Expression };

export type Check =
  | { equal: [RenewalColumn, Value] }
  | { isNull: RenewalColumn }
  | { notNull: RenewalColumn }
  /** The column's instant is not later than now + ms. */
  | { notAfterNow: [RenewalColumn, number] }
  | { laterThanNow: [RenewalColumn, number] }
  | { below: [RenewalColumn, number] }
  | { anyOf: Check[][] };

export interface ConditionalUpdate {
  name: string;
  where: Check[];
  set: Partial<Record<RenewalColumn, Expression>>;
}

/** Runs a transition on a row in memory: the new row, or null where the condition does not hold (0 rows). */
export function applyUpdate(update: ConditionalUpdate, row: RenewalRow, now: number): RenewalRow | null {
  if (!update.where.every((check) => holds(check, row, now))) return null;
  const changes = Object.entries(update.set).map(([column, expression]) => [column, evaluate(expression, row, now)]);
  return { ...row, ...(Object.fromEntries(changes) as Partial<RenewalRow>) };
}

function holds(check: Check, row: RenewalRow, now: number): boolean {
  if ('equal' in check) return row[check.equal[0]] !== null && row[check.equal[0]] === check.equal[1];
  if ('isNull' in check) return row[check.isNull] === null;
  if ('notNull' in check) return row[check.notNull] !== null;
  if ('anyOf' in check) return check.anyOf.some((all) => all.every((one) => holds(one, row, now)));
  if ('below' in check) {
    const value = row[check.below[0]];
    return typeof value === 'number' && value < check.below[1];
  }
  const [column, ms] = 'notAfterNow' in check ? check.notAfterNow : check.laterThanNow;
  const at = row[column];
  if (typeof at !== 'number') return false; // NULL compares to nothing, as in SQL
  return 'notAfterNow' in check ? at <= now + ms : at > now + ms;
}

function evaluate(expression: Expression, row: RenewalRow, now: number): Value {
  if ('value' in expression) return expression.value;
  if ('instant' in expression) return expression.instant;
  if ('column' in expression) return row[expression.column];
  if ('now' in expression) return now + expression.now;
  if ('plus' in expression) return Number(row[expression.plus[0]]) + expression.plus[1];
  if ('coalesce' in expression) return row[expression.coalesce[0]] ?? row[expression.coalesce[1]];
  const branch = expression.when.every((check) => holds(check, row, now)) ? expression.gives : expression.otherwise;
  return evaluate(branch, row, now);
}
