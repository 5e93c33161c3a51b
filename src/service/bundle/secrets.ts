import { z } from 'zod';
import type { SecretsImported } from '../../api/bundles.ts';
import { lockBytes, unlockBytes } from '../../core/backup/envelope.ts';
import { Fault } from '../../core/fault.ts';
import { Secret } from '../../core/secret.ts';
import { findCaller } from '../callers/index.ts';
import { findClient } from '../clients/index.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { SecretRow } from '../store/secrets.ts';
import type { BundleParts } from './parts.ts';

const TYPE = 'rusty-kettle-secrets';
const place = (row: string) => ({ table: 'client_secrets', row, column: 'sealed' });
const Secrets = z.object({
  v: z.literal(1),
  clients: z.record(
    z.string(),
    z.array(z.object({ kind: z.string(), label: z.string(), value: z.string(), starts_at: z.number(), ends_at: z.number().nullable(), facts: z.unknown() })),
  ),
  callers: z.record(
    z.string(),
    z.object({ caller_id: z.string(), keys: z.array(z.object({ label: z.string(), starts: z.string(), hash: z.string(), ends_at: z.number().nullable() })) }),
  ),
});

/** Secrets of clients in use, and the keys of callers as hashes: their tools keep the keys that they have. */
export async function exportSecrets(s: BundleParts, { body, actor }: Command<'exportBundleSecrets'>): Promise<{ jwe: string }> {
  const content: z.output<typeof Secrets> = { v: 1, clients: {}, callers: {} };
  for (const provider of await s.store.providers.all())
    for (const client of await s.store.clients.ofProvider(provider.id)) {
      const kept = (await s.store.secrets.keptOf(client.id)).filter((row) => row.sealed.length > 0);
      if (kept.length === 0) continue;
      content.clients[`${provider.name}/${client.name}`] = await Promise.all(
        kept.map(async (row) => ({
          ...{ kind: row.kind, label: row.label, value: (await s.sealer.open(place(row.id), row.sealed)).reveal() },
          ...{ starts_at: row.startsAt, ends_at: row.endsAt, facts: row.facts },
        })),
      );
    }
  for (const caller of await s.store.callers.all()) {
    const keys = (await s.store.callers.keysOf(caller.id)).filter((key) => !key.retired);
    content.callers[caller.name] = {
      caller_id: caller.callerId,
      keys: keys.map(({ label, starts, hash, endsAt }) => ({ label, starts, hash: hash.toString('base64'), ends_at: endsAt })),
    };
  }
  const lock = body.passphrase === undefined ? { recipient: body.recipient ?? '' } : { passphrase: body.passphrase };
  const jwe = await lockBytes(lock, Buffer.from(JSON.stringify(content)), TYPE);
  s.history.add({
    actor: actor.operator.name,
    kind: 'secrets_exported',
    subject: 'installation',
    says: `Exported secrets of ${Object.keys(content.clients).length} clients as JWE.`,
  });
  return { jwe };
}

/** For clients and callers that exist here; what is there already is left as it is. @throws {Fault} BACKUP_UNREADABLE */
export async function importSecrets(s: BundleParts, { body, actor }: Command<'importBundleSecrets'>): Promise<z.output<typeof SecretsImported>> {
  const unlock = body.private_key === undefined ? { passphrase: body.passphrase ?? '' } : { privateKey: body.private_key };
  const read = Secrets.safeParse(JSON.parse(Buffer.from(await unlockBytes(body.jwe.trim(), unlock, TYPE)).toString('utf8')));
  if (!read.success)
    throw new Fault('BACKUP_UNREADABLE', {
      detail: 'Its form is not one that this version knows.',
      remedy: 'Export it with this version, or a later one here.',
    });
  const outcome = { added: [] as string[], present: [] as string[], missing: [] as string[] };
  const ifThere = async <T>(find: () => Promise<T>): Promise<T | null> => {
    try {
      return await find();
    } catch (error) {
      if (error instanceof Fault && error.code === 'NOT_FOUND') return null;
      throw error;
    }
  };
  await s.store.atomically(async () => {
    for (const [label, secrets] of Object.entries(read.data.clients)) {
      const [provider = '', name = ''] = label.split('/');
      const found = await ifThere(() => findClient(s, provider, name));
      if (!found) outcome.missing.push(`client ${label}`);
      else if ((await s.store.secrets.keptOf(found.record.id)).length > 0) outcome.present.push(`client ${label}`);
      else {
        for (const one of secrets) {
          const id = recordId(s.ports);
          await s.store.secrets.add(
            {
              ...{
                id,
                clientId: found.record.id,
                kind: one.kind as SecretRow['kind'],
                label: one.label,
                sealed: s.sealer.seal(place(id), new Secret(one.value)),
              },
              ...{ enteredAt: s.ports.clock.now(), startsAt: one.starts_at, endsAt: one.ends_at, provedAt: null, refusedAt: null, refusedWhy: null },
              ...{ tryingUntil: null, facts: one.facts as SecretRow['facts'], state: 'unverified' },
            },
            'none',
          );
        }
        if (found.record.stage === 'draft' && found.record.clientId !== null) await s.store.clients.change(found.record.id, { stage: 'active' });
        outcome.added.push(`client ${label}`);
      }
    }
    for (const [name, one] of Object.entries(read.data.callers)) {
      const caller = await ifThere(() => findCaller(s, name));
      if (!caller) outcome.missing.push(`caller ${name}`);
      else if ((await s.store.callers.keysOf(caller.id)).some((key) => !key.retired)) outcome.present.push(`caller ${name}`);
      else {
        await s.store.callers.change(caller.id, { callerId: one.caller_id });
        for (const key of one.keys)
          await s.store.callers.addKey({
            ...{ id: recordId(s.ports), callerId: caller.id, label: key.label, starts: key.starts, hash: Buffer.from(key.hash, 'base64') },
            ...{ startsAt: s.ports.clock.now(), endsAt: key.ends_at, lastUsedAt: null, retired: false },
          });
        outcome.added.push(`caller ${name}`);
      }
    }
  });
  for (const label of outcome.added) {
    const [kind, name = ''] = label.split(' ');
    await s.changes.announce(kind === 'caller' ? 'caller' : 'client', name.split('/').at(-1) ?? name);
  }
  s.history.add({
    actor: actor.operator.name,
    kind: 'secrets_imported',
    subject: 'installation',
    says: `Imported secrets: ${outcome.added.join(', ') || 'none'}.`.slice(0, 500),
  });
  return outcome;
}
