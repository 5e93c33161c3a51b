import type { ApiCall, Pair } from '../calls/call.ts';
import type { PagingPlan, Slice } from './plan.ts';

/** Where a run stands in a list: kept in its checkpoint, so that any replica can ask for the same page. */
export interface Position {
  /** A whole address that the provider named, or null. */
  link: string | null;
  /** The value of the paging parameter; null: the first page of a style that begins without one. */
  value: string | null;
}
/** A part of the list by date, epoch ms; `to` is exclusive. */
export interface Range {
  from: number;
  to: number;
}

export const firstPosition = (plan: PagingPlan): Position => ({
  link: null,
  value: plan.style === 'page_number' ? String(plan.first ?? 1) : plan.style === 'offset' ? String(plan.first ?? 0) : null,
});

const setPair = (pairs: readonly Pair[], name: string, value: string): Pair[] => [
  ...pairs.filter((one) => one.name.toLowerCase() !== name.toLowerCase()),
  { name, value },
];

/** Sets a query parameter, also where it stands in the path already. */
function setQuery(call: ApiCall, name: string, value: string): ApiCall {
  const [path = '', query] = call.path.split(/\?(.*)/s);
  const inPath = query === undefined ? [] : [...new URLSearchParams(query)].filter(([key]) => key !== name);
  const rest = inPath.length === 0 ? '' : `?${new URLSearchParams(inPath)}`;
  return { ...call, path: `${path}${rest}`, query: setPair(call.query, name, value) };
}

/** Sets a member of a JSON body at a pointer; objects on the way are made. A body that is no JSON object stays as it is. */
function setInBody(body: string | null, pointer: string, value: unknown): string | null {
  let document: unknown;
  try {
    document = JSON.parse(body ?? '{}');
  } catch {
    return body; // reported by the provider: the call was composed so
  }
  if (typeof document !== 'object' || document === null || Array.isArray(document)) return body;
  const steps = pointer
    .slice(1)
    .split('/')
    .map((step) => step.replaceAll('~1', '/').replaceAll('~0', '~'));
  let holder = document as Record<string, unknown>;
  for (const step of steps.slice(0, -1)) {
    const inner = Object.hasOwn(holder, step) ? holder[step] : undefined;
    const next = typeof inner === 'object' && inner !== null && !Array.isArray(inner) ? (inner as Record<string, unknown>) : {};
    Object.defineProperty(holder, step, { value: next, enumerable: true, configurable: true, writable: true });
    holder = next;
  }
  Object.defineProperty(holder, steps.at(-1) ?? '', { value, enumerable: true, configurable: true, writable: true });
  return JSON.stringify(document);
}

function set(plan: PagingPlan, call: ApiCall, name: string, value: string): ApiCall {
  if (plan.in === 'header') return { ...call, headers: setPair(call.headers, name, value) };
  if (plan.in !== 'body') return setQuery(call, name, value);
  const isNumber = plan.style === 'page_number' || plan.style === 'offset' || name === plan.size_parameter;
  return { ...call, body: setInBody(call.body, name, isNumber ? Number(value) : value) };
}

const SECOND = 1_000;
const DAY = 86_400_000;
/** The least slice: what the format can name. */
export const stepOf = (slice: Pick<Slice, 'format'>): number => (slice.format === 'date' ? DAY : SECOND);
function instantOf(slice: Slice, at: number): string {
  if (slice.format === 'seconds') return String(Math.floor(at / SECOND));
  const text = new Date(at).toISOString();
  return slice.format === 'date' ? text.slice(0, 10) : `${text.slice(0, 19)}Z`;
}

/**
 * The call for one page: the composed call with the position, the largest page size, and the slice. A next link replaces path and query,
 * since the provider made it.
 */
export function callForPage(plan: PagingPlan, call: ApiCall, position: Position, range: Range | null = null): ApiCall {
  if (position.link !== null) return { ...call, path: position.link, query: [] };
  let made = call;
  if (plan.size_parameter !== undefined && plan.size_most !== undefined) made = set(plan, made, plan.size_parameter, String(plan.size_most));
  if (range !== null && plan.slice !== undefined) {
    made = setQuery(made, plan.slice.from, instantOf(plan.slice, range.from));
    made = setQuery(made, plan.slice.to, instantOf(plan.slice, plan.slice.end === 'included' ? range.to - stepOf(plan.slice) : range.to));
  }
  return position.value === null || plan.parameter === undefined ? made : set(plan, made, plan.parameter, position.value);
}
