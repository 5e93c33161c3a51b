import { readdirSync, readFileSync } from 'node:fs';
import { expect, test } from 'vitest';
import { parse } from 'yaml';
import { CAUSES, causeFacts } from '../core/diagnosis/causes.ts';
import { FAULTS } from '../core/fault-table.ts';
import { CAUSE_WORDS } from '../core/health.ts';
import { operationNames, operations } from './operations.ts';
import * as vocabulary from './vocabulary.ts';

/** Words that 0.6 used, and that nobody meets any more. */
const FORMER =
  /\b(by itself|by themselves|over there|mend(s|ed|ing)?|anew|hangs on|hand(ed|s)? (over|out)|agree again|looked for|not to be taken for|found right|this very|will it live|needs? a person|struggl\w+|the door|notepad|all the same|patience|(is|are) told|taken over|take-over|how it stands|sheets?|abilit(y|ies)|unproved|left alone|kept alive|organi[s]ation)\b/i;

/** Every text of a table, with where it stands. */
function texts(of: unknown, at: string): [where: string, text: string][] {
  if (typeof of === 'string') return [[at, of]];
  if (typeof of !== 'object' || of === null) return [];
  return Object.entries(of).flatMap(([key, value]) => texts(value, `${at}.${key}`));
}

const definitions = new URL('../../definitions/', import.meta.url);
const TABLES: [name: string, table: unknown][] = [
  ['error codes', FAULTS],
  ['causes of states', CAUSE_WORDS],
  ['diagnoses', Object.fromEntries(CAUSES.map((cause) => [cause, causeFacts(cause)]))],
  ['vocabulary', vocabulary],
  ['operations', Object.fromEntries(operationNames.map((name) => [name, operations[name].says]))],
  ...readdirSync(definitions).map((file): [string, unknown] => [file, parse(readFileSync(new URL(file, definitions), 'utf8'))]),
];

test.each(TABLES)('%s: no word that 0.6 used is left, and no key is one', (name, table) => {
  const all = texts(table, name);
  expect(all.length).toBeGreaterThan(5);
  expect(all.filter(([where, text]) => FORMER.test(text) || FORMER.test(where.replaceAll(/[._]/g, ' ')))).toEqual([]);
});

test.each(Object.entries(FAULTS))('%s: its message is one sentence, and its remedy says what to do', (_code, { says, remedy }) => {
  expect(says).toMatch(/^[A-Z].{3,140}\.$/);
  expect(remedy).toMatch(/^[A-Z].{3,200}[.`]$/);
});
