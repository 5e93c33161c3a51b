import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import type { RunLease, RunStore } from '../store/runs.ts';

const zip = promisify(gzip);
const PART_BYTES = 1_000_000;
const LEVEL = 1;

/** A file of a run, saved in parts of about a megabyte: one is zipped and saved while the next is made. */
export interface FileParts {
  /** False: the run is someone else's. */
  add(piece: Uint8Array): Promise<boolean>;
  end(): Promise<boolean>;
}

export function fileParts(store: Pick<RunStore, 'saveFile'>, { lease, leaseMs, format }: { lease: RunLease; leaseMs: number; format: string }): FileParts {
  let [sequence, starts, size] = [0, 0, 0];
  let waiting: Uint8Array[] = [];
  let saving: Promise<boolean> = Promise.resolve(true);
  const save = async (before: Promise<boolean>, part: { sequence: number; starts: number; plain: Buffer }): Promise<boolean> => {
    const data = await zip(part.plain, { level: LEVEL });
    return (await before) && store.saveFile(lease, format, { sequence: part.sequence, starts: part.starts, size: part.plain.length, data }, leaseMs);
  };
  const flush = async (): Promise<boolean> => {
    if (!(await saving)) return false;
    if (size === 0) return true;
    const plain = Buffer.concat(waiting, size);
    sequence += 1;
    saving = save(saving, { sequence, starts, plain });
    saving.catch(() => undefined); // thrown where it is awaited
    [starts, size, waiting] = [starts + plain.length, 0, []];
    return true;
  };
  return {
    async add(piece) {
      if (piece.length > 0) waiting.push(piece);
      size += piece.length;
      return size < PART_BYTES || flush();
    },
    end: async () => (await flush()) && saving,
  };
}
