import { existsSync } from 'node:fs';
import { join, resolve } from 'node:path';
import type { z } from 'zod';
import type { AdoptedReplica, Replica } from '../../api/status.ts';
import { Fault } from '../../core/fault.ts';
import { openDataFolder } from '../database/index.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import type { AdoptParts } from './parts.ts';

const DAY_MS = 86_400_000;

/** The newest life of each instance that was seen within a day. */
export async function listReplicas(s: Pick<AdoptParts, 'store' | 'ports' | 'settings'>): Promise<z.output<typeof Replica>[]> {
  const now = s.ports.clock.now();
  const newest = new Map((await s.store.replicas.all()).map((one) => [one.instanceId, one])); // a later life replaces an earlier one
  return [...newest.values()]
    .filter((one) => now - one.seenAt < DAY_MS)
    .map((one) => ({
      instance: one.instanceId,
      incarnation: one.incarnation,
      roles: one.roles.split(','),
      started_at: iso(one.startedAt),
      seen_at: iso(one.seenAt),
      alive: one.roles !== 'stopped' && now - one.seenAt < s.settings.limits.silentMs,
    }));
}

/**
 * Saves what a dead replica left in its data folder. Its socket is taken meanwhile, so that it cannot come up at the same time; then
 * the others learn that it holds nothing. @throws {Fault} NOT_FOUND, FOLDER_OWNED, REPLICA_ALIVE
 */
export async function adoptReplica(s: AdoptParts, { body, actor }: Command<'adoptReplica'>): Promise<z.output<typeof AdoptedReplica>> {
  const { folder: path } = body;
  const operator = actor.operator.name;
  const folder = resolve(path);
  if (!existsSync(join(folder, 'instance-id')))
    throw new Fault('NOT_FOUND', {
      detail: `${folder} is not the data folder of a replica.`,
      remedy: 'Name the data folder (RUSTY_KETTLE_DATA_FOLDER) of the dead replica, as it is mounted on the machine of this service.',
    });
  const taken = await openDataFolder(folder);
  try {
    const lives = await s.store.replicas.livesOf(taken.instanceId);
    const last = lives.at(-1);
    if (last && last.roles !== 'stopped' && s.ports.clock.now() - last.seenAt < s.settings.limits.silentMs)
      throw new Fault('REPLICA_ALIVE', { detail: `Its last heartbeat was at ${iso(last.seenAt)}.` });
    const { saved, freed } = await s.recover(folder, taken.instanceId);
    await s.store.replicas.instanceStopped(taken.instanceId);
    s.history.add({
      actor: operator,
      kind: 'replica_adopted',
      subject: `replica:${taken.instanceId}`,
      says: `Took over what a dead replica left: ${saved} answers saved, ${freed} renewals freed.`,
    });
    return { instance: taken.instanceId, answers_saved: saved, renewals_freed: freed };
  } finally {
    await taken.release();
  }
}
