import { writeFileSync } from 'node:fs';
import { availableParallelism, tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, test } from 'vitest';
import { Fault } from '../core/fault.ts';
import { readSettings } from './settings.ts';
import { SettingsTable } from './settings-table.ts';

const given = (environment: Record<string, string>) => readSettings({ RUSTY_KETTLE_DATA_FOLDER: '/data', ...environment });
/** The error that settings meet, as a person reads it. */
const error = (environment: Record<string, string>): string => {
  try {
    given(environment);
  } catch (fault) {
    if (!(fault instanceof Fault) || fault.code !== 'SETTING_INVALID') throw fault;
    return [fault.detail, ...(fault.places ?? []).map((one) => `${one.path}: ${one.why}`), fault.remedy].join(' ');
  }
  return 'none';
};

test.each<[why: string, environment: Record<string, string>, shown: RegExp]>([
  ['a misspelt name', { RUSTY_KETTLE_PROT: '1' }, /There is no setting RUSTY_KETTLE_PROT\..*docs\/SETTINGS\.md/],
  ['a port that is none', { RUSTY_KETTLE_PORT: '70000' }, /RUSTY_KETTLE_PORT: /],
  ['a database of another kind', { RUSTY_KETTLE_DATABASE_URL: 'postgres://x' }, /RUSTY_KETTLE_DATABASE_URL: must start with mariadb/],
  ['neither a number nor cores', { RUSTY_KETTLE_PROCESSES: 'all' }, /RUSTY_KETTLE_PROCESSES: must be a number from 1 to 64, or cores/],
  ['more than the private database takes', { RUSTY_KETTLE_PROCESSES: '24' }, /24 processes with 16 database connections.*smaller RUSTY_KETTLE_POOL_SIZE/],
  ['a lease that ends before the answer', { RUSTY_KETTLE_LEASE_MS: '1000' }, /RUSTY_KETTLE_LEASE_MS/],
  ['a header that anyone could send', { RUSTY_KETTLE_CLIENT_CERTIFICATE_HEADER: 'x-cert' }, /needs RUSTY_KETTLE_TRUSTED_PROXIES/],
  ['two master keys', { RUSTY_KETTLE_MASTER_KEY: 'k', RUSTY_KETTLE_MASTER_KEY_COMMAND: 'key' }, /given in more than one way/],
  ['a key file that is not there', { RUSTY_KETTLE_MASTER_KEY_FILE: '/nowhere' }, /RUSTY_KETTLE_MASTER_KEY_FILE names \/nowhere/],
  ['a public URL with a path', { RUSTY_KETTLE_PUBLIC_URL: 'https://tokens.example.test/rk' }, /must be an origin/],
  ['a public URL without TLS', { RUSTY_KETTLE_PUBLIC_URL: 'http://tokens.example.test' }, /must be https, unless it is on loopback/],
  ['http, and TLS of its own', { ...tls(), RUSTY_KETTLE_PUBLIC_URL: 'http://127.0.0.1:7420' }, /answers HTTPS itself/],
  ['half of TLS', { RUSTY_KETTLE_TLS_KEY_FILE: '/k' }, /belong together/],
  ['certificates without TLS', { RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES: 'on' }, /need RUSTY_KETTLE_TLS_CERTIFICATE_FILE/],
  ['an authority that checks nothing', { ...tls(), RUSTY_KETTLE_TLS_CLIENT_CA_FILE: '/ca' }, /needs RUSTY_KETTLE_TLS_CLIENT_CERTIFICATES=on/],
  ['a proxy that is no address', { HTTPS_PROXY: 'proxy.example:3128' }, /addresses such as http:\/\/proxy\.example:3128/],
])('%s is named, with what to do', (_why, environment, shown) => {
  expect(error(environment)).toMatch(shown);
});

function tls(): Record<string, string> {
  return { RUSTY_KETTLE_TLS_CERTIFICATE_FILE: '/c', RUSTY_KETTLE_TLS_KEY_FILE: '/k' };
}

test('nothing but the data folder set: a private database on loopback, and what docs/SETTINGS.md states', () => {
  const settings = given({});
  expect(settings).toMatchObject({ dataFolder: '/data', databaseUrl: null, host: '127.0.0.1', port: 7420, processes: 1, publicUrl: 'http://127.0.0.1:7420' });
  expect(settings).toMatchObject({ publicUrlIsDefault: true, tls: null, proxy: null, mail: null, isFirstProcess: true });
  expect(given(tls()).publicUrl).toBe('https://127.0.0.1:7420');
  expect(given({ RUSTY_KETTLE_PROCESSES: 'cores' }).processes).toBe(availableParallelism());
});

test('secrets are read from their files, and do not print', () => {
  const file = join(tmpdir(), `rk-key-${process.pid}`);
  writeFileSync(file, `${'a'.repeat(43)}=\n`);
  const settings = given({
    RUSTY_KETTLE_MASTER_KEY_FILE: file,
    RUSTY_KETTLE_METRICS_TOKEN: 'b'.repeat(24),
    RUSTY_KETTLE_DATABASE_URL: 'mariadb://u:canary@h/d',
  });
  expect(settings.masterKey?.reveal()).toBe(`${'a'.repeat(43)}=`);
  expect(JSON.stringify(settings)).not.toMatch(/aaaa|bbbb|canary/);
});

test('every setting has a description for docs/SETTINGS.md', () => {
  for (const [name, schema] of Object.entries(SettingsTable.shape)) expect([name, schema.meta()?.description]).toEqual([name, expect.stringMatching(/\.$/)]);
});
