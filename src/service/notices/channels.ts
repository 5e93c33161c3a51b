import type { Channel, ChannelShown } from '../../api/notices.ts';
import { changesOf } from '../../core/activity/changes.ts';
import { maskedAddress } from '../../core/calls/secret-values.ts';
import { MASK, unmasked } from '../../core/calls/stored-values.ts';
import { Fault } from '../../core/fault.ts';
import { ChannelRule } from '../../core/notices/channel.ts';
import { Secret } from '../../core/secret.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { ChannelRow } from '../store/channels.ts';
import { queued } from './keep.ts';
import { deliveryView } from './notices.ts';
import type { NoticeParts } from './parts.ts';
import { sendExample } from './send.ts';

const MOST = 100;
const MAX_SHOWN = 100;
const MAX_OPEN = 200;
/** In the activity log an address is its host: the rest of it may be a secret of the receiver. */
const logged = (set: Partial<ChannelRow>): Partial<ChannelRow> => (set.url ? { ...set, url: new URL(set.url).host } : set);
const placeOf = (row: string) => ({ table: 'channels', row, column: 'secret_sealed' });

const view = (row: ChannelRow): Channel => ({
  name: row.name,
  kind: row.kind,
  to: row.recipients,
  url: row.url,
  signed: row.secretSealed !== null,
  script: row.script,
  rule: row.rule,
  enabled: row.enabled,
  revision: row.revision,
  created_by: row.createdBy,
  created_at: iso(row.createdAt),
  failing_since: isoOrNull(row.failingSince),
  last_at: isoOrNull(row.lastAt),
  last_says: row.lastSays,
});

export async function listChannels(s: NoticeParts): Promise<{ items: Channel[] }> {
  return { items: (await s.store.channels.list()).map(view) };
}

async function named(s: NoticeParts, name: string): Promise<ChannelRow> {
  const row = await s.store.channels.byName(name);
  if (!row) throw new Fault('NOT_FOUND', { detail: `Channel "${name}" not found.` });
  return row;
}

export async function showChannel(s: NoticeParts, name: string): Promise<ChannelShown> {
  const row = await named(s, name);
  const told = await s.store.notices.deliveries({ channelId: row.id }, MAX_SHOWN);
  const titles = new Map((await s.store.notices.byIds([...new Set(told.map((one) => one.noticeId))])).map((one) => [one.id, one.title]));
  return { ...view(row), deliveries: told.map((one) => deliveryView(one, name, titles.get(one.noticeId) ?? '')) };
}

/** Shows values that may be secrets. Activity records who looked. */
export async function showChannelValues(s: NoticeParts, { params, actor }: Command<'showChannelValues'>): Promise<{ url: string | null }> {
  const { name, url } = await named(s, params.channel);
  s.history.add({ actor: actor.operator.name, kind: 'values_shown', subject: `channel:${name}`, says: 'Looked at the whole address.' });
  return { url };
}

function refuseImpossible(s: NoticeParts, kind: ChannelRow['kind']): void {
  if (kind === 'mail' && !s.mail.isOn)
    throw new Fault('INPUT_INVALID', { detail: 'No mail server is set.', remedy: 'Set RUSTY_KETTLE_SMTP_URL and restart the service.' });
  if (kind === 'script' && s.settings.scriptsFolder === null)
    throw new Fault('INPUT_INVALID', {
      detail: 'No folder of programs is set, so none can be started.',
      remedy: 'Set RUSTY_KETTLE_SCRIPTS_FOLDER and restart the service.',
    });
}

/** @throws {Fault} NAME_TAKEN, INPUT_INVALID where the machine has no way to send so */
export async function addChannel(s: NoticeParts, { body, actor }: Command<'addChannel'>): Promise<ChannelShown> {
  refuseImpossible(s, body.kind);
  const present = await s.store.channels.list();
  if (present.some((one) => one.name === body.name)) throw new Fault('NAME_TAKEN', { detail: `A channel called ${body.name} exists.` });
  if (present.length >= MOST) throw new Fault('INPUT_INVALID', { detail: `There are at most ${MOST} channels.`, remedy: 'Remove one that nobody reads.' });
  const id = recordId(s.ports);
  const secret = body.kind === 'webhook' ? body.signing_secret : undefined;
  await s.store.channels.add({
    ...{ id, name: body.name, kind: body.kind, enabled: true, revision: 0 },
    recipients: body.kind === 'mail' ? body.to : [],
    url: body.kind === 'webhook' ? unmasked(body.url, null, 'url') : null,
    urlSealed: null,
    script: body.kind === 'script' ? body.script : null,
    secretSealed: secret === undefined ? null : s.sealer.seal(placeOf(id), new Secret(secret)),
    rule: body.rule ?? ChannelRule.parse({}),
    createdBy: actor.operator.name,
    createdAt: s.ports.clock.now(),
    ...{ busyUntil: null, failingSince: null, failures: 0, lastAt: null, lastSays: '' },
  });
  await tellOpen(s, body.name);
  s.history.add({ actor: actor.operator.name, kind: 'channel_added', subject: `channel:${body.name}`, says: `Added the channel ${body.name} (${body.kind}).` });
  return showChannel(s, body.name);
}

/** A new channel learns of what is open already. */
async function tellOpen(s: NoticeParts, name: string): Promise<void> {
  const channel = await s.store.channels.byName(name);
  const open = await s.store.notices.list({ state: 'open', limit: MAX_OPEN });
  const now = s.ports.clock.now();
  if (channel) await s.store.notices.queue((open ?? []).flatMap((notice) => queued(s, notice, { event: 'opened', channels: [channel], now })));
}

/** @throws {Fault} REVISION_CONFLICT, INPUT_INVALID where a field does not belong to this kind */
export async function changeChannel(s: NoticeParts, { params, body, actor }: Command<'changeChannel'>): Promise<ChannelShown> {
  const row = await named(s, params.channel);
  const foreign = (
    [
      ['to', body.to, 'mail'],
      ['url', body.url, 'webhook'],
      ['signing_secret', body.signing_secret, 'webhook'],
      ['script', body.script, 'script'],
    ] as const
  ).find(([, value, kind]) => value !== undefined && kind !== row.kind);
  if (foreign)
    throw new Fault('INPUT_INVALID', {
      detail: `The channel sends by ${row.kind}.`,
      places: [{ path: foreign[0], why: `Only of a channel by ${foreign[2]}.` }],
    });
  const url = body.url === undefined || row.url === null ? body.url : unmasked(body.url, { stored: row.url, masked: maskedAddress(row.url, MASK) }, 'url');
  // At another address another program reads: it must not get what was signed for the former one.
  const moved = url !== undefined && url !== row.url;
  const secretSealed = body.signing_secret === undefined ? (moved ? null : row.secretSealed) : s.sealer.seal(placeOf(row.id), new Secret(body.signing_secret));
  const set = {
    ...(body.to === undefined ? {} : { recipients: body.to }),
    ...(url === undefined ? {} : { url }),
    ...(body.script === undefined ? {} : { script: body.script }),
    ...(body.rule === undefined ? {} : { rule: body.rule }),
    ...(body.enabled === undefined ? {} : { enabled: body.enabled }),
    secretSealed,
  };
  const changed = await s.store.channels.revise({ id: row.id, revision: body.revision }, { ...set, busyUntil: null });
  if (!changed) throw new Fault('REVISION_CONFLICT');
  s.history.add({
    actor: actor.operator.name,
    kind: 'channel_changed',
    subject: `channel:${row.name}`,
    says: `Changed the channel ${row.name}.`,
    data: { changes: changesOf(logged(row), logged(set)) },
  });
  return showChannel(s, row.name);
}

export async function removeChannel(s: NoticeParts, { params, actor }: Command<'removeChannel'>): Promise<{ done: true }> {
  const row = await named(s, params.channel);
  await s.store.channels.remove(row.id);
  s.history.add({ actor: actor.operator.name, kind: 'channel_removed', subject: `channel:${row.name}`, says: `Removed the channel ${row.name}.` });
  return { done: true };
}

export async function testChannel(s: NoticeParts, { params }: Command<'testChannel'>): Promise<{ done: boolean; says: string }> {
  return sendExample(s, await named(s, params.channel));
}

export async function replayChannel(s: NoticeParts, { params, actor }: Command<'replayChannel'>): Promise<{ sent_again: number }> {
  const row = await named(s, params.channel);
  const count = await s.store.notices.replay(row.id);
  await s.store.channels.release(row.id, null);
  s.history.add({ actor: actor.operator.name, kind: 'channel_replayed', subject: `channel:${row.name}`, says: `Sends ${count} notices again.` });
  return { sent_again: count };
}
