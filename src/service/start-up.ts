import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { attempts } from '../api/attempts.ts';
import { Fault } from '../core/fault.ts';
import type { DataFolder } from './database/index.ts';
import type { Operators } from './operators/index.ts';
import type { Log } from './ports.ts';
import type { Settings } from './settings.ts';
import type { Database } from './store/database.ts';
import { replicationOf } from './store/replication.ts';
import type { Store } from './store/store.ts';

const START_WAIT_MS = 60_000;

/** A database server that comes up after us is waited for. @throws {Fault} DATABASE_UNAVAILABLE */
export async function untilDatabase(database: Database, log: Log): Promise<void> {
  let last: unknown;
  for await (const _ of attempts({ withinMs: START_WAIT_MS, everyMs: 500 })) {
    try {
      return await database.ping();
    } catch (cause) {
      last = cause;
      if (!(cause instanceof Fault && cause.code === 'DATABASE_UNAVAILABLE')) break;
      log.warn({ event: 'database.waiting' }, 'waiting for the database');
    }
  }
  throw new Fault('DATABASE_UNAVAILABLE', {
    cause: last,
    detail: `It was tried for ${START_WAIT_MS / 1000} s.`,
    remedy: 'Check RUSTY_KETTLE_DATABASE_URL: host, port, name and password; and that the server runs.',
  });
}

/** A database whose replicas follow asynchronously loses something with each failover: said at the start, because nobody sees it before. */
export async function checkReplication(database: Database, log: Log): Promise<void> {
  const { kind, replicas } = await replicationOf(database);
  if (kind === 'asynchronous')
    log.warn(
      { event: 'database.replication_asynchronous', replicas },
      'the database acknowledges commits that its replicas do not have yet: set rpl_semi_sync_master_enabled=ON with AFTER_SYNC, or a failover loses them',
    );
}

/** The database's public URL is everybody's; a setting that differs changes it, and the clients to fix are named. */
export async function agreeOnPublicUrl(settings: Settings, store: Pick<Store, 'installation' | 'clients'>, log: Log): Promise<string> {
  const stored = (await store.installation.read())?.publicUrl ?? settings.publicUrl;
  if (settings.publicUrlIsDefault || stored === settings.publicUrl) return stored;
  await store.installation.change({ publicUrl: settings.publicUrl });
  const affected = (await store.clients.redirectUris()).filter((uri) => uri.startsWith(`${stored}/`));
  log.warn(
    { event: 'service.public_url_changed', from: stored, to: settings.publicUrl, clients: affected },
    'the public URL changed: these redirect URIs are registered at providers under the old one',
  );
  return settings.publicUrl;
}

/** Writes the one-time link for the first operator to a file of the data folder; null: there is an operator. */
export async function offerFirstOperator(people: Operators, folder: DataFolder, publicUrl: string): Promise<string | null> {
  const path = join(folder.path, 'first-operator.link');
  rmSync(path, { force: true });
  if (!(await people.isFirstNeeded())) return null;
  writeFileSync(path, `${publicUrl}/#/first-operator/${await people.firstTicket()}\n`, { mode: 0o600 });
  return path;
}

/** Writes a one-time link that makes an operator an administrator again: for whoever controls the machine when nobody can sign in. */
export async function rescueOperator(people: Operators, folder: DataFolder, name: string | null, log: Log): Promise<void> {
  const path = join(folder.path, 'rescue.link');
  rmSync(path, { force: true });
  if (name === null) return;
  writeFileSync(path, `${await people.rescue(name)}\n`, { mode: 0o600 });
  log.warn({ event: 'service.rescue', operator: name, path }, 'a one-time link for a new password was written; remove RUSTY_KETTLE_RESCUE now');
}
