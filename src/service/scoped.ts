import { AsyncLocalStorage } from 'node:async_hooks';

/** A value that goes with everything that is begun within a piece of work. */
export interface Scoped<T> {
  run<R>(value: T, work: () => Promise<R>): Promise<R>;
  /** Undefined: what is done now was begun outside of any such work. */
  current(): T | undefined;
}

/**
 * Following a value costs every promise and every callback of the process something: a tenth of a relayed call (Node.js 20, `npm run bench --
 * relay`). So this is switched off where no such work runs.
 * @param lingerMs how long what a piece of work left running is still followed after its end
 */
export function scoped<T extends object>(lingerMs: number): Scoped<T> {
  const storage = new AsyncLocalStorage<T>();
  let open = 0;
  let timer: NodeJS.Timeout | undefined;
  return {
    async run(value, work) {
      open += 1;
      clearTimeout(timer);
      try {
        return await storage.run(value, work);
      } finally {
        open -= 1;
        if (open === 0) timer = setTimeout(() => storage.disable(), lingerMs).unref();
      }
    },
    current: () => storage.getStore(),
  };
}
