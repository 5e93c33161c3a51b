import { scoped } from './scoped.ts';

/** The request in whose course something is done: what is written down then names it. */
interface RequestContext {
  requestId: string;
  /** From where it came. */
  address: string;
}
/** What a request leaves running for longer says so, by `beyondRequest`. */
const LINGER_MS = 5_000;
const requests = scoped<RequestContext>(LINGER_MS);

export const withinRequest = requests.run;
/** Work that goes on after its request was answered, and still names it. */
export function beyondRequest<T>(work: () => Promise<T>): Promise<T> {
  const request = requests.current();
  return request === undefined ? work() : requests.run(request, work);
}
/** Null: what is done now was begun by the service itself. */
export const currentRequest = (): RequestContext | null => requests.current() ?? null;
