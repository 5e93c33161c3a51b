import { expect, test } from 'vitest';
import { SECRET_STATES } from '../core/clients/choose-secret.ts';
import { HALVES, SIDES, VERDICTS } from '../core/diagnosis/causes.ts';
import { CONNECTION_STATES, PROOF_STATES } from '../core/health.ts';
import { GRANT_KINDS } from '../core/oauth/grant-kinds.ts';
import { APPROVALS } from '../core/provider/kinds.ts';
import { POLICIES } from '../core/renewal/plan.ts';
import { CLIENT_STATES } from './clients.ts';
import { GRANT_KIND_LABELS, HALF_LABELS, LINE_VERDICTS, POLICY_LABELS, PROOF_LABELS, SIDE_LABELS, STATES, VERDICT_LABELS, type Word } from './vocabulary.ts';

test.each<[name: string, table: object, values: readonly string[]]>([
  ['states', STATES, [...CONNECTION_STATES, ...CLIENT_STATES, ...SECRET_STATES, ...APPROVALS]],
  ['verdicts of lines', LINE_VERDICTS, ['good', 'missing', 'doubt', 'bad']],
  ['verdicts', VERDICT_LABELS, Object.keys(VERDICTS)],
  ['halves', HALF_LABELS, HALVES],
  ['sides', SIDE_LABELS, SIDES],
  ['policies', POLICY_LABELS, POLICIES],
  ['kinds of grants', GRANT_KIND_LABELS, GRANT_KINDS],
  ['proofs', PROOF_LABELS, PROOF_STATES],
])('%s: each value has words, no value has none, and no two are called the same', (_name, table, values) => {
  expect(Object.keys(table).sort()).toEqual([...new Set(values)].sort());
  const words: (string | Word)[] = Object.values(table);
  const labels = words.map((one) => (typeof one === 'string' ? one : one.label));
  expect(new Set(labels).size).toBe(labels.length);
  for (const label of labels) expect(label).toMatch(/^[^_]{4,60}$/);
  for (const one of words) if (typeof one !== 'string') expect([one.mark.length, one.says]).toEqual([1, expect.stringMatching(/^[A-Z].+\.$/)]);
});
