import { Piscina } from 'piscina';

/** A worker's module beside this one: compiled, or as TypeScript where the service itself runs as such. */
export function workerPool(name: string, limits: { threads: number; queue: number; memoryMb: number }): Piscina {
  const isSource = import.meta.url.endsWith('.ts');
  return new Piscina({
    filename: new URL(`./${name}.${isSource ? 'ts' : 'js'}`, import.meta.url).href,
    ...(isSource ? { execArgv: ['--import', 'tsx'] } : {}),
    minThreads: 0,
    maxThreads: limits.threads,
    maxQueue: limits.queue,
    idleTimeout: 30_000,
    resourceLimits: { maxOldGenerationSizeMb: limits.memoryMb },
    // A thread of ours reads no settings: the master key may stand among them.
    env: {},
    recordTiming: false,
  });
}
