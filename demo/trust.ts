import { generateKeyPairSync } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type ApiClient, apiClient } from '../src/api/client.ts';
import { DEMO_PASSWORD, type Harbour } from './stage.ts';

/** Colleagues with less than everything, and a backup each day: the private key lies in the demo's folder, which a real one never should. */
export async function seedTrust(harbour: Harbour, call: ApiClient): Promise<void> {
  const { items } = await call('listOperators');
  const colleagues = [
    { name: 'oda', role: 'operator' as const, labels: ['team=deck'] },
    { name: 'ivar', role: 'viewer' as const, labels: [] },
  ];
  for (const one of colleagues.filter((wanted) => !items.some((known) => known.name === wanted.name))) {
    const { url } = await call('inviteOperator', { body: one });
    if (one.name === 'oda')
      await apiClient({ baseUrl: harbour.url })('joinOperator', { body: { ticket: url.split('/').at(-1) ?? '', password: DEMO_PASSWORD } });
  }
  const sailings = await call('showConnection', { params: { connection: 'sailings' } });
  if (!sailings.labels.includes('team=deck'))
    await call('changeConnection', { params: { connection: 'sailings' }, body: { revision: sailings.revision, labels: [...sailings.labels, 'team=deck'] } });
  const files = { public: join(harbour.folder, 'restore.pub'), private: join(harbour.folder, 'restore.key') };
  if (!existsSync(files.public)) {
    const made = generateKeyPairSync('ec', { namedCurve: 'P-256' });
    writeFileSync(files.public, made.publicKey.export({ type: 'spki', format: 'pem' }));
    writeFileSync(files.private, made.privateKey.export({ type: 'pkcs8', format: 'pem' }), { mode: 0o600 });
  }
  if ((await call('showBackupPlan')).plan === null)
    await call('setBackupPlan', { body: { every_hours: 24, keep: 3, recipient: readFileSync(files.public, 'utf8'), results: false } });
}
