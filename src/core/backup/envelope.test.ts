import { generateKeyPairSync } from 'node:crypto';
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { Fault } from '../fault.ts';
import { type BackupLock, type BackupUnlock, backupReader, backupWriter, lockOf } from './envelope.ts';

const pair = (kind: 'ec' | 'rsa' | 'x25519') => {
  const made =
    kind === 'ec'
      ? generateKeyPairSync('ec', { namedCurve: 'P-256' })
      : kind === 'rsa'
        ? generateKeyPairSync('rsa', { modulusLength: 2048 })
        : generateKeyPairSync('x25519');
  return {
    recipient: made.publicKey.export({ type: 'spki', format: 'pem' }).toString(),
    privateKey: made.privateKey.export({ type: 'pkcs8', format: 'pem' }).toString(),
  };
};
const why = async (work: () => Promise<unknown>): Promise<string> => {
  try {
    await work();
    return '';
  } catch (error) {
    if (error instanceof Fault) return `${error.code} ${error.detail ?? ''}`;
    throw error;
  }
};
const [ec, rsa, other] = [pair('ec'), pair('rsa'), pair('ec')];
const LOCKS: [string, BackupLock, BackupUnlock, BackupUnlock][] = [
  ['a passphrase', { passphrase: 'six boats at low tide' }, { passphrase: 'six boats at low tide' }, { passphrase: 'seven boats' }],
  ['an elliptic key', { recipient: ec.recipient }, { privateKey: ec.privateKey }, { privateKey: other.privateKey }],
  ['an RSA key', { recipient: rsa.recipient }, { privateKey: rsa.privateKey }, { privateKey: other.privateKey }],
];

test.each(LOCKS)(
  '%s: lines come back whole and in order; whatever is changed, cut, moved or repeated is noticed',
  async (_name, lock, unlock, wrong) => {
    const writer = await backupWriter(lock);
    const texts = ['one', 'two', 'three'];
    const lines: string[] = [];
    for (const [at, text] of texts.entries()) lines.push(await writer.line(Buffer.from(text), at === texts.length - 1));
    const read = async (all: readonly string[], head = writer.head, by = unlock) => {
      const reader = await backupReader(head, by);
      const found: string[] = [];
      for (const line of all) found.push(Buffer.from(await reader.line(line)).toString());
      reader.end();
      return found;
    };
    expect(await read(lines)).toEqual(texts);
    expect(await why(() => read(lines, writer.head, wrong))).toMatch(/BACKUP_UNREADABLE/);
    expect(await why(() => read(lines.slice(0, 2)))).toMatch(/cut after/);
    expect(await why(() => read([lines[1] ?? '', lines[0] ?? '', lines[2] ?? '']))).toMatch(/missing or stands elsewhere/);
    expect(await why(() => read([...lines, lines[2] ?? '']))).toMatch(/follow its last/);
    await fc.assert(
      fc.asyncProperty(fc.nat({ max: 2 }), fc.nat(), async (line, where) => {
        const text = lines[line] ?? '';
        const at = where % text.length;
        const changed = lines.with(line, `${text.slice(0, at)}${text[at] === 'A' ? 'B' : 'A'}${text.slice(at + 1)}`);
        if (
          Buffer.from(changed[line]?.split('.')[4] ?? '', 'base64url').equals(Buffer.from(text.split('.')[4] ?? '', 'base64url')) &&
          changed[line]?.split('.').slice(0, 4).join() === text.split('.').slice(0, 4).join()
        )
          return; // unused bits of the last character
        expect(await why(() => read(changed))).toMatch(/BACKUP_UNREADABLE/);
      }),
      { numRuns: 'passphrase' in lock ? 2 : 20 }, // each costs a slow key derivation
    );
  },
  60_000,
);

test('what is no backup, and a lock of the other kind, are named', async () => {
  expect(() => lockOf('hello')).toThrow(/does not begin/);
  const { head } = await backupWriter({ recipient: ec.recipient });
  expect(await why(() => backupReader(head, { passphrase: 'x' }))).toMatch(/for the owner of a key/);
  expect(await why(() => backupWriter({ recipient: 'no key' }))).toMatch(/INPUT_INVALID/);
});
