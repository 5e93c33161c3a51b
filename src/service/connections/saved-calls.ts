import type { ComposedCall, SavedCall } from '../../api/trying.ts';
import { whyNoHeader } from '../../core/calls/call.ts';
import { maskedCall, maskedSaved } from '../../core/calls/secret-values.ts';
import { MASK, unmasked } from '../../core/calls/stored-values.ts';
import { Fault } from '../../core/fault.ts';
import type { PagingPlan } from '../../core/paging/plan.ts';
import { connectionDefinition } from '../grants/index.ts';
import { iso } from '../iso.ts';
import type { Command } from '../operation-call.ts';
import { recordId } from '../ports.ts';
import type { SavedCallRow } from '../store/saved-calls.ts';
import { findKnown } from './find.ts';
import type { ConnectionParts } from './parts.ts';

const MAX_SAVED = 200;

/** The calls that are kept with a connection, by name. */
export async function savedCalls(s: Pick<ConnectionParts, 'store'>, connectionId: string): Promise<SavedCall[]> {
  return (await s.store.savedCalls.ofConnection(connectionId)).map(savedView);
}

/** @throws {Fault} NOT_FOUND */
async function savedCall(s: Pick<ConnectionParts, 'store'>, connectionId: string, called: string): Promise<SavedCall> {
  const row = await s.store.savedCalls.byName(connectionId, called);
  if (!row) throw new Fault('NOT_FOUND', { detail: `No call is saved as ${called}.` });
  return savedView(row);
}

const withoutFrom = ({ from: _, ...call }: ComposedCall): ComposedCall => call;

const savedView = (row: SavedCallRow): SavedCall => ({
  ...row.callDocument,
  name: row.name,
  saved_by: row.savedBy,
  saved_at: iso(row.savedAt),
});

/** How a request names a call: saved with the connection, or composed. */
interface CallNames {
  saved?: string | undefined;
  call?: ComposedCall | undefined;
  values: Readonly<Record<string, string>>;
}
interface NamedCall {
  call: ComposedCall;
  /** Of the saved call; its fixed values are filled in where none came. */
  parameters: SavedCall['parameters'];
  values: Record<string, string>;
  paging: PagingPlan | null;
}

/**
 * The call that is meant. Where it was composed from a saved one, each `(secret)` is the saved value.
 * @throws {Fault} NOT_FOUND, INPUT_INVALID where none is named, or a `(secret)` is left
 */
export async function namedCall(s: Pick<ConnectionParts, 'store'>, connectionId: string, { saved, call: sent, values }: CallNames): Promise<NamedCall> {
  const name = saved ?? sent?.from;
  const kept = name === undefined ? null : await savedCall(s, connectionId, name);
  const composed = sent && unmasked(withoutFrom(sent), kept && { stored: kept.call, masked: maskedCall(kept.call, MASK) }, 'call');
  const call = saved === undefined ? composed : kept?.call;
  if (!call) throw new Fault('INPUT_INVALID', { places: [{ path: 'call', why: 'Name a call or a saved call.' }] });
  const parameters = kept?.parameters ?? [];
  const stored = Object.fromEntries(parameters.map((one) => [one.name, one.value]));
  const paging = saved === undefined ? null : (kept?.paging ?? null);
  return { call, parameters, values: unmasked({ ...values }, { stored, masked: null }, 'values'), paging };
}

/** Shows values that may be secrets. Activity records who looked. @throws {Fault} NOT_FOUND */
export async function showCallValues(s: ConnectionParts, { params, actor }: Command<'showCallValues'>): Promise<SavedCall> {
  const one = await findKnown(s, params.connection);
  const saved = await savedCall(s, one.id, params.call);
  s.history.add({
    actor: actor.operator.name,
    kind: 'values_shown',
    subject: `connection:${params.connection}`,
    says: `Looked at the secret values of the saved call ${params.call}.`,
  });
  return saved;
}

/** @throws {Fault} INPUT_INVALID for a call that could not be sent */
export async function saveCall(s: ConnectionParts, { params, body: input, actor }: Command<'saveCall'>): Promise<SavedCall> {
  const { connection: name } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  const { definition } = await connectionDefinition(s, one);
  const kept = await s.store.savedCalls.ofConnection(one.id);
  const from = kept.find((row) => row.name === (input.call.from ?? input.name))?.callDocument;
  const { call: composed, parameters } = unmasked(
    { call: withoutFrom(input.call), parameters: input.parameters },
    from ? { stored: from, masked: maskedSaved(from, MASK) } : null,
  );
  const wrong = input.call.headers.flatMap((header) => {
    const why = whyNoHeader(header.name, header.value, definition.apis[0]?.token_header ?? 'authorization');
    return why === null ? [] : [{ path: `call.headers.${header.name}`, why }];
  });
  if (wrong.length > 0) throw new Fault('INPUT_INVALID', { places: wrong });
  const same = kept.find((row) => row.name === input.name);
  if (!same && kept.length >= MAX_SAVED)
    throw new Fault('INPUT_INVALID', { detail: `A connection keeps at most ${MAX_SAVED} calls.`, remedy: 'Remove one that nobody uses.' });
  const { name: called, paging = same?.callDocument.paging, ...rest } = input;
  const callDocument = { ...rest, call: composed, parameters, ...(paging === undefined ? {} : { paging }) };
  const row = { callDocument, callDocumentSealed: null, savedBy: operator, savedAt: s.ports.clock.now() };
  if (same) await s.store.savedCalls.change(same.id, row);
  else await s.store.savedCalls.add({ id: recordId(s.ports), connectionId: one.id, name: called, ...row });
  s.history.add({ actor: operator, kind: 'call_saved', subject: `connection:${name}`, says: `Saved the call ${called}.` });
  return savedView({ id: '', connectionId: one.id, name: called, ...row });
}

/** Keeps how the list of a saved call is paged, once someone confirmed it by collecting with it. */
export async function keepPaging(
  s: ConnectionParts,
  { connectionId, connection, called, requestedBy }: { connectionId: string; connection: string; called: string; requestedBy: string },
  paging: PagingPlan,
): Promise<void> {
  const row = await s.store.savedCalls.byName(connectionId, called);
  if (!row || JSON.stringify(row.callDocument.paging) === JSON.stringify(paging)) return;
  await s.store.savedCalls.change(row.id, { callDocument: { ...row.callDocument, paging } });
  s.history.add({ actor: requestedBy, kind: 'call_saved', subject: `connection:${connection}`, says: `Kept the paging of the saved call ${called}.` });
}

export async function removeCall(s: ConnectionParts, { params, actor }: Command<'removeCall'>): Promise<{ done: true }> {
  const { connection: name, call: called } = params;
  const operator = actor.operator.name;
  const one = await findKnown(s, name);
  if (!(await s.store.savedCalls.remove(one.id, called))) throw new Fault('NOT_FOUND', { detail: `No call is saved as ${called}.` });
  s.history.add({ actor: operator, kind: 'call_removed', subject: `connection:${name}`, says: `Removed the saved call ${called}.` });
  return { done: true };
}
