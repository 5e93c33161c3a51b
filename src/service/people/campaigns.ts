import type { Campaign } from '../../api/people.ts';
import { Fault } from '../../core/fault.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Asked, Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import { runPeriodically } from '../run-periodically.ts';
import type { CampaignRow } from '../store/campaigns.ts';
import { record } from './events.ts';
import { findShared, withoutOthersCallers } from './find.ts';
import type { PeopleParts } from './parts.ts';

const LOOK_MS = 2_000;
const AT_ONCE = 100;

async function view(s: PeopleParts, row: CampaignRow): Promise<Campaign> {
  const [progress, caller] = await Promise.all([s.store.campaigns.progress(row), row.callerId === null ? null : s.store.callers.byId(row.callerId)]);
  return {
    name: row.name,
    purpose: row.purpose,
    caller: caller?.name ?? null,
    state: row.state,
    scopes: row.scopes,
    ...progress,
    times_most: row.timesMost,
    remind_hours: row.remindHours,
    created_by: row.createdBy,
    created_at: iso(row.createdAt),
    ended_at: isoOrNull(row.endedAt),
  };
}

export async function listCampaigns(s: PeopleParts, { params, actor }: Asked<'listCampaigns'>): Promise<{ items: Campaign[] }> {
  const shared = await findShared(s, params.connection);
  const items = await Promise.all((await s.store.campaigns.list(shared.id)).map((row) => view(s, row)));
  return { items: await withoutOthersCallers(s, items, actor.operator) };
}

/** @throws {Fault} NAME_TAKEN */
export async function addCampaign(s: PeopleParts, { params, body, actor }: Command<'addCampaign'>): Promise<Campaign> {
  const shared = await findShared(s, params.connection);
  if (await s.store.campaigns.byName(shared.id, body.name)) throw new Fault('NAME_TAKEN', { detail: `${shared.name} has a campaign called ${body.name}.` });
  const caller = body.caller === undefined ? null : await s.store.callers.byName(body.caller);
  if (body.caller !== undefined && !caller) throw new Fault('NOT_FOUND', { detail: `Caller "${body.caller}" not found.` });
  const row: CampaignRow = {
    id: recordId(s.ports),
    sharedId: shared.id,
    name: body.name,
    purpose: body.purpose,
    callerId: caller?.id ?? null,
    scopes: shared.scopes,
    timesMost: body.times_most,
    remindHours: body.remind_hours,
    state: 'running',
    createdBy: actor.operator.name,
    createdAt: s.ports.clock.now(),
    endedAt: null,
  };
  await s.store.campaigns.add(row);
  s.history.add({ actor: actor.operator.name, kind: 'campaign_added', subject: `connection:${shared.name}`, says: `Began the campaign ${body.name}.` });
  return view(s, row);
}

/** @throws {Fault} NOT_FOUND */
export async function endCampaign(s: PeopleParts, { params, actor }: Command<'endCampaign'>): Promise<Campaign> {
  const shared = await findShared(s, params.connection);
  const row = await s.store.campaigns.byName(shared.id, params.campaign);
  if (!row) throw new Fault('NOT_FOUND', { detail: `${shared.name} has no campaign called ${params.campaign}.` });
  const endedAt = s.ports.clock.now();
  await s.store.campaigns.end(row.id, endedAt);
  s.history.add({ actor: actor.operator.name, kind: 'campaign_ended', subject: `connection:${shared.name}`, says: `Ended the campaign ${row.name}.` });
  return view(s, row.state === 'ended' ? row : { ...row, state: 'ended', endedAt });
}

/** Asks people, some at a time; on every replica: whoever is asked twice by two of them is asked once. Ends when told to stop. */
export const runCampaigns = (s: PeopleParts, stop: AbortSignal): Promise<void> =>
  runPeriodically({ ports: s.ports, everyMs: LOOK_MS, failed: 'asking people failed', stop }, async () => {
    let isMore = false;
    for (const campaign of await s.store.campaigns.running()) isMore = (await askSome(s, campaign)) || isMore;
    return isMore;
  });

/** @returns whether there may be more */
async function askSome(s: PeopleParts, campaign: CampaignRow): Promise<boolean> {
  const shared = await s.store.connections.byId(campaign.sharedId);
  if (!shared) return false;
  const people = await s.store.campaigns.toAsk(campaign, AT_ONCE);
  for (const { connectionId, times } of people) {
    const person = await s.store.connections.byId(connectionId);
    if (!person) continue;
    // First the event, once for each time; then the count: a crash between them asks nobody twice.
    await record(s, {
      shared,
      person,
      kind: 'asked',
      onceKey: `asked ${campaign.id} ${connectionId.slice(0, 36)} ${times}`,
      data: { campaign: campaign.name, purpose: campaign.purpose, scopes: campaign.scopes, time: times + 1 },
      letter: { callerId: campaign.callerId, purpose: campaign.purpose },
    });
    await s.store.campaigns.asked(campaign.id, connectionId, times);
  }
  return people.length === AT_ONCE;
}
