import type { z } from 'zod';
import type { QuotaView } from '../../api/trying.ts';
import { expectedLeft } from '../../core/quota/forecast.ts';
import { connectionDefinition } from '../grants/index.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Limits } from '../operation-call.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

const SAYS =
  'Relayed calls, test calls and jobs are counted. Calls with an issued token do not pass this service: they are counted only where the API reports what is left.';

/** What is left of each window, and of each caller's share of it. */
export async function showQuota(s: ConnectionParts, name: string, limits?: Limits): Promise<z.output<typeof QuotaView>> {
  const one = await findKnown(s, name);
  const { definition, record } = await connectionDefinition(s, one);
  const all = await s.store.permissions.sharesOf(one.id);
  const within = limits && (await s.store.limits.callersWithin([...new Set(all.map((share) => share.caller))], limits));
  const shares = all.filter((share) => within?.has(share.caller) ?? true);
  const whose = [{ callerId: null, caller: null, share: null }, ...shares];
  const items: z.output<typeof QuotaView>['items'] = [];
  for (const api of definition.apis.filter((candidate) => candidate.quota.length > 0))
    for (const { callerId, caller, share } of whose) {
      const uses = s.quotas.usesOf({ api, clientRecordId: record.id, connectionId: one.id, callerId, share, method: 'GET', path: '/' });
      const shown = caller === null ? uses : uses.filter((_use, at) => at % 2 === 1); // each window stands before its share
      for (const left of await s.quotas.left(shown))
        items.push({
          api: api.title,
          caller,
          ...left,
          expected_left: expectedLeft({ ...left, resetsAt: left.resets_at }, s.ports.clock.now()),
          resets_at: iso(left.resets_at),
          held_until: isoOrNull(left.held_until),
        });
    }
  return { items, says: items.length === 0 ? 'The definition names no quota for this API.' : SAYS };
}
