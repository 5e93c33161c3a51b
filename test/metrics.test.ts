import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { parse } from 'yaml';
import type { ApiClient } from '../src/api/client.ts';
import { removeFolder, type ServiceUnderTest, signIn, startService } from '../testing/service.ts';
import { eventually } from '../testing/waiting.ts';
import { addConnection, addEelgrass, agree, fetchToken, type StandinUnderTest, startEelgrass } from './support/harbour.ts';
import { newDatabase } from './support/new-database.ts';

/** Figures for a monitoring system: complete, bounded, and nothing of anybody in them. */
const TOKEN = 'a-token-for-figures-only';
let [service, call, standin] = [] as unknown as [ServiceUnderTest, ApiClient, StandinUnderTest];
beforeAll(async () => {
  standin = await startEelgrass(600);
  service = await startService({ databaseUrl: await newDatabase(), environment: { RUSTY_KETTLE_METRICS_TOKEN: TOKEN } });
  call = await signIn(service);
  await addEelgrass(call, standin);
  await addConnection(call, 'sailings');
  await agree(call, 'sailings');
  await addConnection(call, 'a-draft');
}, 120_000);
afterAll(async () => {
  await service?.stop();
  await standin?.stop();
  if (service) removeFolder(service.folder);
});
const read = (authorization?: string) => fetch(`${service.url}/metrics`, { headers: authorization === undefined ? {} : { authorization } });

test('only with the token', async () => {
  for (const wrong of [undefined, '', 'Bearer', `Bearer ${TOKEN}x`, `Basic ${TOKEN}`, TOKEN]) {
    const answer = await read(wrong);
    expect([answer.status, answer.headers.get('www-authenticate')]).toEqual([401, 'Bearer realm="metrics"']);
  }
  const answer = await read(`Bearer ${TOKEN}`);
  expect([answer.status, answer.headers.get('content-type')]).toEqual([200, expect.stringContaining('application/openmetrics-text')]);
});

test('what is counted is what happened; labels have closed lists of values, and name nobody', async () => {
  const board = await call('addCaller', { body: { name: 'board', connections: ['sailings'] } });
  for (let n = 0; n < 3; n += 1) await fetchToken(service.url, board.caller_id, board.key, `${service.url}/connections/sailings`);
  const lines = [
    'rusty_kettle_uses_total{outcome="token"} 3',
    'rusty_kettle_connections{state="working"} 1',
    'rusty_kettle_connections{state="draft"} 1',
    'rusty_kettle_connections{state="action_needed"} 0',
    'rusty_kettle_notices{severity="action"} 0',
    'rusty_kettle_renewals_due 0',
    'rusty_kettle_answers_unsaved 0',
    'rusty_kettle_held 0',
    'rusty_kettle_activity_total{kind="connection_added"} 2',
    'rusty_kettle_activity_total{kind="consented"} 1',
  ];
  // Shown states and counts are written in rounds, shortly after what they count.
  const text = await eventually(async () => {
    const now = await (await read(`Bearer ${TOKEN}`)).text();
    const missing = lines.filter((line) => !now.includes(`${line}\n`));
    if (missing.length > 0) throw new Error(`not counted yet: ${missing.join(', ')}`);
    return now;
  });
  expect(text.trimEnd().endsWith('# EOF')).toBe(true);
  expect(text).not.toMatch(/sailings|board|marit|eelgrass/);
  expect(text.split('\n').length).toBeLessThan(500);
});

test('each alert of the example asks for figures that are there', async () => {
  const text = await (await read(`Bearer ${TOKEN}`)).text();
  const names = new Set([...text.matchAll(/^(\w+)(?:\{|\s)/gm)].map((found) => found[1]));
  const kinds = new Set(['renewed', 'renewal_failed']);
  const { groups } = parse(readFileSync(new URL('../examples/alerts.yaml', import.meta.url), 'utf8')) as {
    groups: { rules: { alert: string; expr: string; annotations: { summary: string; action: string } }[] }[];
  };
  const rules = groups.flatMap((group) => group.rules);
  expect(rules.length).toBeGreaterThanOrEqual(8);
  for (const { alert, expr, annotations } of rules) {
    const asked = [...expr.matchAll(/rusty_kettle_\w+/g)].map((found) => found[0]);
    expect([alert, asked.filter((name) => !names.has(name))]).toEqual([alert, []]);
    for (const [, state] of expr.matchAll(/state="(\w+)"/g)) expect(text).toContain(`{state="${state}"}`);
    for (const [, kind] of expr.matchAll(/kind="(\w+)"/g)) expect(kinds.has(kind ?? '')).toBe(true);
    expect([annotations.summary.endsWith('.'), /[.?]$/.test(annotations.action)]).toEqual([true, true]);
  }
});
