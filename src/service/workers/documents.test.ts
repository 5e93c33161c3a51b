import { readFileSync } from 'node:fs';
import { monitorEventLoopDelay } from 'node:perf_hooks';
import forge from 'node-forge';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { Fault } from '../../core/fault.ts';
import { readDefinition } from '../../core/provider/read-definition.ts';
import { documents } from './documents.ts';

/** What others write may be as hostile as it likes: it is read or rejected, and the service's own thread goes on meanwhile. */
const read = documents(4_000);
const STALL_MS = 200;
/** The best of several rounds counts: the machine is shared, and only what this thread does itself is meant. */
const ROUNDS = 5;

beforeAll(() => read.read('notes', { definition: {} as never, text: '' }).catch(() => {})); // the thread is there before anything is measured
afterAll(() => read.stop());

const pkcs12 = (rounds: number): string => {
  const keys = forge.pki.rsa.generateKeyPair(1024);
  const certificate = forge.pki.createCertificate();
  Object.assign(certificate, { publicKey: keys.publicKey, serialNumber: '01' });
  for (const day of ['notBefore', 'notAfter'] as const) certificate.validity[day] = new Date();
  certificate.sign(keys.privateKey);
  return forge.util.encode64(forge.asn1.toDer(forge.pkcs12.toPkcs12Asn1(keys.privateKey, [certificate], 'pass', { count: rounds })).getBytes());
};
const many = (count: number, line: (index: number) => string): string => Array.from({ length: count }, (_, index) => line(index)).join('');
const DEFINITION = readFileSync(new URL('../../../definitions/oakum.yaml', import.meta.url), 'utf8');
const openApi = (text: string) => read.read('openApi', { text, from: 'https://a.example/o.json', limit: 10_000_000, typed: {} });
const bigOpenApi = (): string => {
  const operation = (index: number) => ({ get: { operationId: `g${index}`, summary: 'x'.repeat(120), responses: { 200: { description: 'ok' } } } });
  const paths = Object.fromEntries(Array.from({ length: 12_000 }, (_, index) => [`/things/${index}`, operation(index)]));
  return JSON.stringify({ openapi: '3.1.0', info: { title: 'Big' }, servers: [{ url: 'https://a.example' }], paths });
};
const hostileShape = { ...readDefinition(DEFINITION), shapes: [{ of: 'client_id', pattern: 'a{0,99}'.repeat(5), says: 'Letters' }] } as never;
const FILE = pkcs12(100_001);

test.each<[string, () => Promise<unknown>, says: RegExp | null]>([
  ['YAML with 40,000 keys in one map', () => openApi(many(40_000, (index) => `k${index}: 1\n`)), /OPENAPI_WRONG/],
  ['YAML of many aliases', () => read.read('definition', `a: &a [x]\n${many(2_000, (index) => `b${index}: &b${index} [*a, *a]\n`)}`), /aliases/],
  ['YAML nested 50,000 deep', () => read.read('definition', '['.repeat(50_000)), /DEFINITION_INVALID/],
  [
    'five placeholders side by side',
    () => read.read('definition', DEFINITION.replace('client_page: "', 'client_page: "https://{a}{b}{c}{d}{e}.example/')),
    /DEFINITION_INVALID/,
  ],
  ['a shape that would backtrack', () => read.read('notes', { definition: hostileShape, text: `client id: ${'a'.repeat(900)}b` }), null],
  ['an OpenAPI document of 2.4 MB', () => openApi(bigOpenApi()), null],
  ['500 kB of curl text', () => read.read('calls', `curl 'https://a.example' ${many(20_000, (index) => `-H 'a${index}: ${'x'.repeat(12)}' `)}`), /long/],
  ['a curl line that no shell reads', () => read.read('calls', `curl "\${\${\${x}"`), /./],
  ['PKCS#12 with more rounds than any program makes', () => read.read('pkcs12', { base64: FILE, password: 'pass' }), /100,?000/],
])('%s: read or rejected in a thread of its own, and the longest stall of this one stays short', async (_name, task, says) => {
  let best = Number.POSITIVE_INFINITY;
  for (let round = 0; round < ROUNDS && best > STALL_MS; round += 1) {
    const delay = monitorEventLoopDelay({ resolution: 5 });
    delay.enable();
    const result = await task().catch((cause: unknown) => cause);
    delay.disable();
    best = Math.min(best, delay.max / 1e6);
    if (result instanceof Error) expect(result.name).toBe('Fault');
    const said = result instanceof Fault ? `${result.code} ${result.message} ${result.detail}` : typeof result === 'string' ? result : null;
    if (says === null) expect(said).toBeNull();
    else expect(said).toMatch(says);
  }
  expect(best).toBeLessThan(STALL_MS);
});
