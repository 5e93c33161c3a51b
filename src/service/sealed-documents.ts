import type { ZodType } from 'zod';
import { JobSettings } from '../api/jobs.ts';
import { SaveCall } from '../api/trying.ts';
import { maskedAddress, maskedSaved, maskedSettings } from '../core/calls/secret-values.ts';
import { MASK } from '../core/calls/stored-values.ts';
import { Fault } from '../core/fault.ts';
import { Secret } from '../core/secret.ts';
import type { Sealer } from './sealer.ts';
import type { ChannelRow } from './store/channels.ts';
import type { JobRow } from './store/jobs.ts';
import type { ReceiverRow } from './store/person-events.ts';
import type { DeliveryRow } from './store/run-deliveries.ts';
import { RunPlan } from './store/run-documents.ts';
import type { RunRow } from './store/runs.ts';
import type { SavedCallRow } from './store/saved-calls.ts';
import type { Store } from './store/store.ts';

/** Documents of an earlier version that are sealed in one round. */
const AT_ONCE = 500;
const NOTHING = Buffer.alloc(0);

/** A member of a row that may hold secrets: in the database it is masked, and whole only in the sealed column beside it. */
interface SealedMember<R, M extends keyof R> {
  table: string;
  column: string;
  member: M;
  beside: keyof R;
  rowOf(row: R): string;
  read(text: string): R[M];
  masked(value: NonNullable<R[M]>): R[M];
}

const parsed =
  <T>(schema: ZodType<T>) =>
  (text: string): T => {
    const read = schema.safeParse(JSON.parse(text));
    if (!read.success) throw new Fault('RECORD_INVALID', { cause: read.error });
    return read.data;
  };

function sealing<R, M extends keyof R>(sealer: Sealer, { table, column, member, beside, rowOf, read, masked }: SealedMember<R, M>) {
  /** What is written of a row. An empty value beside a document says that it was looked through, and holds no secret. */
  const closed = (row: string, set: Partial<R>): Partial<R> => {
    const whole = set[member];
    if (whole === undefined) return set;
    const shown = whole === null ? whole : masked(whole as NonNullable<R[M]>);
    const text = JSON.stringify(whole);
    const sealed = JSON.stringify(shown) === text ? NOTHING : sealer.seal({ table, row, column }, new Secret(text));
    return { ...set, [member]: shown, [beside]: sealed };
  };
  const opened = async (row: R): Promise<R> => {
    const sealed = row[beside] as Buffer | null;
    if (sealed === null || sealed.length === 0) return row;
    return { ...row, [member]: read((await sealer.open({ table, row: rowOf(row), column }, sealed)).reveal()) };
  };
  return {
    closed,
    added: (row: R): R => ({ ...row, ...closed(rowOf(row), row) }),
    opened,
    openedOrNull: async (row: R | null): Promise<R | null> => row && opened(row),
    all: (rows: readonly R[]): Promise<R[]> => Promise.all(rows.map(opened)),
  };
}

/** The store as the rooms get it. */
export type SealedStore = Store & SealsFormer;
interface SealsFormer {
  /** Seals what an earlier version wrote, some of each; what changed meanwhile is found again. @returns how many were found */
  sealFormer(): Promise<number>;
}
type Sealable = Pick<Store, 'channels' | 'jobs' | 'personEvents' | 'runs' | 'savedCalls'>;

/**
 * The store with calls, settings, plans and addresses in full for the rooms. Values that may be secrets are sealed on their way
 * in and opened on its way out: the database holds `(secret)` in its place.
 */
export function withSealedDocuments<S extends Sealable>(store: S, sealer: Sealer): S & SealsFormer {
  const { channels, jobs, personEvents, runs, savedCalls } = store;
  const idOf = (row: { id: string }): string => row.id;
  const calls = sealing<SavedCallRow, 'callDocument'>(sealer, {
    ...{ table: 'saved_calls', column: 'call_document_sealed', member: 'callDocument', beside: 'callDocumentSealed', rowOf: idOf },
    ...{ read: parsed(SaveCall.omit({ name: true })), masked: (value) => maskedSaved(value, MASK) },
  });
  const settings = sealing<JobRow, 'settings'>(sealer, {
    ...{ table: 'jobs', column: 'settings_sealed', member: 'settings', beside: 'settingsSealed', rowOf: idOf },
    ...{ read: parsed(JobSettings), masked: (value) => maskedSettings(value, MASK) },
  });
  const plans = sealing<RunRow, 'plan'>(sealer, {
    ...{ table: 'runs', column: 'plan_sealed', member: 'plan', beside: 'planSealed', rowOf: idOf },
    ...{ read: parsed(RunPlan), masked: (value) => maskedSettings(value, MASK) },
  });
  const address = { column: 'url_sealed', beside: 'urlSealed', read: JSON.parse, masked: (value: string) => maskedAddress(value, MASK) } as const;
  const channelUrls = sealing<ChannelRow, 'url'>(sealer, { ...address, table: 'channels', member: 'url', rowOf: idOf });
  const receiverUrls = sealing<ReceiverRow, 'url'>(sealer, { ...address, table: 'event_receivers', member: 'url', rowOf: (row) => row.callerId });
  return {
    ...store,
    savedCalls: {
      ...savedCalls,
      ofConnection: async (connectionId) => calls.all(await savedCalls.ofConnection(connectionId)),
      async byConnection() {
        const found = await savedCalls.byConnection();
        return new Map(await Promise.all([...found].map(async ([id, rows]) => [id, await calls.all(rows)] as const)));
      },
      byName: async (connectionId, name) => calls.openedOrNull(await savedCalls.byName(connectionId, name)),
      add: (row) => savedCalls.add(calls.added(row)),
      change: (callId, set) => savedCalls.change(callId, calls.closed(callId, set)),
    },
    jobs: {
      ...jobs,
      list: async () => settings.all(await jobs.list()),
      byName: async (name) => settings.openedOrNull(await jobs.byName(name)),
      byId: async (jobId) => settings.openedOrNull(await jobs.byId(jobId)),
      ofConnections: async (connectionIds) => settings.all(await jobs.ofConnections(connectionIds)),
      due: async (most) => settings.all(await jobs.due(most)),
      add: (row) => jobs.add(settings.added(row)),
      change: (jobId, revision, set) => jobs.change(jobId, revision, settings.closed(jobId, set)),
    },
    runs: {
      ...runs,
      byId: async (runId) => plans.openedOrNull(await runs.byId(runId)),
      byIds: async (runIds) => plans.all(await runs.byIds(runIds)),
      ofJob: async (jobId, most, before) => plans.all(await runs.ofJob(jobId, most, before)),
      unfinishedOf: async (jobId) => plans.openedOrNull(await runs.unfinishedOf(jobId)),
      lastDone: async (connectionId, most) => plans.all(await runs.lastDone(connectionId, most)),
      add: (row) => runs.add(plans.added(row)),
      finish: (lease, set) =>
        runs.finish(lease, set.served ? { ...set, served: { ...set.served, deliveries: set.served.deliveries.map(shownDelivery) } } : set),
    },
    channels: {
      ...channels,
      list: async () => channelUrls.all(await channels.list()),
      byId: async (channelId) => channelUrls.openedOrNull(await channels.byId(channelId)),
      byName: async (name) => channelUrls.openedOrNull(await channels.byName(name)),
      add: (row) => channels.add(channelUrls.added(row)),
      revise: (row, set) => channels.revise(row, channelUrls.closed(row.id, set)),
    },
    personEvents: {
      ...personEvents,
      receiver: async (callerRecordId) => receiverUrls.openedOrNull(await personEvents.receiver(callerRecordId)),
      setReceiver: (row) => personEvents.setReceiver(receiverUrls.added(row)),
    },
    async sealFormer() {
      const found = await Promise.all([
        ...[savedCalls.unsealed(AT_ONCE), jobs.unsealed(AT_ONCE), runs.unsealed(AT_ONCE)],
        ...[channels.unsealed(AT_ONCE), personEvents.unsealedReceivers(AT_ONCE)],
      ] as const);
      const [oldCalls, oldJobs, oldRuns, oldChannels, oldReceivers] = found;
      for (const { id, callDocument } of oldCalls) await savedCalls.change(id, calls.closed(id, { callDocument }));
      for (const row of oldJobs) await jobs.reseal(row, settings.closed(row.id, { settings: row.settings }));
      for (const { id, plan } of oldRuns) {
        for (const delivery of await runs.deliveries([id])) await runs.maskDelivery(shownDelivery(delivery));
        await runs.reseal(id, plans.closed(id, { plan }));
      }
      for (const row of oldChannels) await channels.reseal(row, channelUrls.closed(row.id, { url: row.url }));
      for (const row of oldReceivers) await personEvents.resealReceiver(row, receiverUrls.closed(row.callerId, { url: row.url }));
      return found.reduce((sum, rows) => sum + rows.length, 0);
    },
  };
}

/** A delivery goes where the plan of its run says; its own row only shows where that is. */
const shownDelivery = (row: DeliveryRow): DeliveryRow =>
  row.settings.kind === 'post' ? { ...row, settings: { ...row.settings, url: maskedAddress(row.settings.url, MASK) } } : row;
