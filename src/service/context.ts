import { AsyncLocalStorage } from 'node:async_hooks';

/** The request in whose course something is done: what is written down then names it. */
interface RequestContext {
  requestId: string;
  /** From where it came. */
  address: string;
}
const storage = new AsyncLocalStorage<RequestContext>();

export const withinRequest = <T>(context: RequestContext, work: () => Promise<T>): Promise<T> => storage.run(context, work);
/** Null: what is done now was begun by the service itself. */
export const currentRequest = (): RequestContext | null => storage.getStore() ?? null;
