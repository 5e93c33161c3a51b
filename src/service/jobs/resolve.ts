import type { z } from 'zod';
import type { Collect, JobSettings } from '../../api/jobs.ts';
import type { ComposedCall } from '../../api/trying.ts';
import { fillCall, isRead, namesIn } from '../../core/calls/call.ts';
import { Fault } from '../../core/fault.ts';
import { PagingPlan, planProblems } from '../../core/paging/plan.ts';
import type { Range } from '../../core/paging/request.ts';
import { wholeSteps } from '../../core/paging/slices.ts';
import { type Api, fitsOperation } from '../../core/provider/api.ts';
import { addressOf, findKnown, namedCall } from '../connections/index.ts';
import { type ApiAddress, connectionDefinition } from '../grants/index.ts';
import type { JobParts } from './parts.ts';

type CallNames = Pick<z.output<typeof Collect>, 'call' | 'saved' | 'values'>;
export interface ResolvedCall {
  connectionId: string;
  provider: string;
  call: ComposedCall;
  address: ApiAddress;
  /** Of the API, below its base URL. */
  path: string;
  /** As it is kept with the saved call, or as the definition states it. */
  declared: PagingPlan | null;
  declaredBy: 'saved_call' | 'definition' | null;
  /** Names of parameters that the definition lists for the operation. */
  parameters: string[];
}

const DAY_MS = 86_400_000;

/**
 * The call that a collection makes, filled in, with the API that it belongs to.
 * @throws {Fault} NOT_FOUND, INPUT_INVALID, HOST_NOT_LISTED
 */
export async function resolveCall(s: JobParts, connection: string, named: CallNames): Promise<ResolvedCall> {
  const one = await findKnown(s, connection);
  const { definition, record } = await connectionDefinition(s, one);
  const { call: composed, parameters, values, paging: kept } = await namedCall(s, one.id, named);
  const { call, lacking } = fillCall(composed, parameters, { ...record.placeholders, ...one.placeholders, ...values });
  const unfilled = [...new Set([...lacking, ...namesIn({ ...call, query: [], headers: [], body: null })])];
  if (unfilled.length > 0)
    throw new Fault('INPUT_INVALID', { places: unfilled.map((name) => ({ path: `values.${name}`, why: 'No value came for this name.' })) });
  const filled = { ...call, method: composed.method };
  if (!isRead(filled.method) && filled.method !== 'POST')
    throw new Fault('INPUT_INVALID', {
      places: [{ path: 'call.method', why: `A collection reads: GET, or POST for a search. ${filled.method} may change something.` }],
    });
  const address = addressOf({ definition }, filled);
  const path = new URL(address.url).pathname.slice(new URL(`${address.api.base_url.replace(/\/$/, '')}/`).pathname.length - 1);
  const operation = address.api.operations.find((each) => each.method === filled.method && fitsOperation(each.path, path));
  const stated = declaredFor(address.api, operation);
  return {
    connectionId: one.id,
    provider: definition.name,
    call: filled,
    address,
    path,
    declared: kept ?? stated,
    declaredBy: kept ? 'saved_call' : stated && 'definition',
    parameters: operation?.parameters.filter((each) => each.in === 'query').map((each) => each.name) ?? [],
  };
}

/** A job's settings with its call filled in, so that they stand without saved calls and the connection's own values. @throws {Fault} as resolveCall */
export async function filledJob(s: JobParts, connection: string, { saved: _saved, ...settings }: JobSettings): Promise<JobSettings> {
  const { call, path, declared } = await resolveCall(s, connection, { ...settings, saved: _saved });
  const isAddress = /^https?:/.test(call.path);
  return { ...settings, values: {}, paging: settings.paging ?? declared, call: isAddress ? { ...call, path } : call };
}

/** What the definition states, where it states enough to follow it. */
function declaredFor(api: Api, operation: Api['operations'][number] | undefined): PagingPlan | null {
  const declared = operation?.paging ?? api.paging;
  if (declared === undefined || planProblems(declared).length > 0) return null;
  const read = PagingPlan.safeParse(declared);
  return read.success ? read.data : null;
}

/** The plan that is followed. @throws {Fault} INPUT_INVALID where none is known */
export function pagingOf(settings: Pick<JobSettings, 'paging'>, resolved: Pick<ResolvedCall, 'declared'>): PagingPlan {
  const plan = settings.paging ?? resolved.declared;
  if (plan) return plan;
  throw new Fault('INPUT_INVALID', {
    places: [{ path: 'paging', why: 'The definition does not state how this list is paged.' }],
    remedy: 'Let it be recognized from a first response, and confirm: Test call > Collect all pages, or `rk call NAME … --all-pages`.',
  });
}

/** The dates for slices, where the plan has them. @throws {Fault} INPUT_INVALID where slices need a range */
export function rangeOf(settings: Pick<JobSettings, 'range'>, plan: PagingPlan, now: number): Range | null {
  if (plan.slice === undefined) return null;
  if (settings.range === null)
    throw new Fault('INPUT_INVALID', { places: [{ path: 'range', why: 'This list is cut by date. State how many days it goes back.' }] });
  return wholeSteps(plan.slice, { from: now - settings.range.days * DAY_MS, to: now });
}
