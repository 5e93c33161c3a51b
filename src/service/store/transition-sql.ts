import type { Check, ConditionalUpdate, Expression, Value } from '../../core/renewal/conditional-update.ts';
import type { RenewalColumn } from '../../core/renewal/row.ts';
import { type Bind, idBytes, instantText } from './database.ts';

export const ID_COLUMNS: readonly RenewalColumn[] = ['owner', 'claimId', 'sentBy', 'uncertainBy'];
export const COLUMNS: readonly RenewalColumn[] = [
  'nextAt',
  'owner',
  'claimId',
  'epoch',
  'leaseUntil',
  'sentEpoch',
  'sentBy',
  'sentAt',
  'uncertainSince',
  'uncertainBy',
  'refusedAt',
  'generation',
  'parentGeneration',
  'savedEpoch',
  'failures',
  'ended',
  'cause',
  'issuedAt',
  'expiresAt',
];
const SNAKE = Object.fromEntries(COLUMNS.map((column) => [column, column.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`)]));
export const snake = (column: string): string => SNAKE[column] ?? column;

/** Compiles a transition to SQL; `place` says where a constant stands: as a parameter, or in a column of a list of rows. */
export function compile(update: ConditionalUpdate, place: (value: Bind) => string): { set: string; where: string } {
  const constant = (column: RenewalColumn, value: Value): string => {
    if (value === null) return 'NULL';
    return place(ID_COLUMNS.includes(column) ? idBytes(String(value)) : typeof value === 'boolean' ? Number(value) : value);
  };
  const fromNow = (ms: number): string => (ms === 0 ? 'UTC_TIMESTAMP(3)' : `UTC_TIMESTAMP(3) + INTERVAL ${place(Math.round(ms) * 1000)} MICROSECOND`);
  const check = (one: Check): string => {
    if ('equal' in one) return `r.${snake(one.equal[0])} = ${constant(one.equal[0], one.equal[1])}`;
    if ('isNull' in one) return `r.${snake(one.isNull)} IS NULL`;
    if ('notNull' in one) return `r.${snake(one.notNull)} IS NOT NULL`;
    if ('anyOf' in one) return `(${one.anyOf.map((all) => `(${all.map(check).join(' AND ')})`).join(' OR ')})`;
    if ('below' in one) return `r.${snake(one.below[0])} < ${place(one.below[1])}`;
    const [column, ms] = 'notAfterNow' in one ? one.notAfterNow : one.laterThanNow;
    return `r.${snake(column)} ${'notAfterNow' in one ? '<=' : '>'} ${fromNow(ms)}`;
  };
  const expression = (column: RenewalColumn, one: Expression): string => {
    if ('value' in one) return constant(column, one.value);
    if ('instant' in one) return place(instantText(one.instant));
    if ('column' in one) return `r.${snake(one.column)}`;
    if ('now' in one) return fromNow(one.now);
    if ('plus' in one) return `r.${snake(one.plus[0])} + ${one.plus[1]}`;
    if ('coalesce' in one) return `COALESCE(r.${snake(one.coalesce[0])}, r.${snake(one.coalesce[1])})`;
    return `IF(${one.when.map(check).join(' AND ')}, ${expression(column, one.gives)}, ${expression(column, one.otherwise)})`;
  };
  const set = Object.entries(update.set).map(([column, one]) => `r.${snake(column)} = ${expression(column as RenewalColumn, one)}`);
  return { set: set.join(', '), where: update.where.map(check).join(' AND ') };
}
