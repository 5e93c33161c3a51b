import { appendFile } from 'node:fs/promises';
import type { Ports } from '../ports.ts';
import type { EntryToAppend } from '../store/history.ts';

/** Copies entries that are written into a file, one JSON object in each line, for a program that gathers logs. */
export interface EntryStream {
  write(entries: readonly EntryToAppend[]): void;
  /** Ends when all is in the file, or cannot be written. */
  stop(): Promise<void>;
}

const MAX_WAITING = 20_000;
const AGAIN_MS = 2_000;

const lineOf = ({ hash, chainId, at, data, requestId, ...entry }: EntryToAppend): string =>
  `${JSON.stringify({ at: new Date(at).toISOString(), ...entry, data: JSON.parse(data) as unknown, request_id: requestId, chain: chainId, hash: hash.toString('hex') })}\n`;

/**
 * The file is opened for each write, so that it may be rotated. While it cannot be written, lines wait in memory. A crash can lose the last
 * ones: the sequence numbers of a chain show the gap.
 */
export function entryStream({ path, log }: { path: string; log: Ports['log'] }): EntryStream {
  let lines: string[] = [];
  let writing: Promise<void> | null = null;
  let timer: NodeJS.Timeout | null = null;
  let lost = 0;
  const flush = async (): Promise<void> => {
    const now = lines;
    if (now.length === 0) return;
    await appendFile(path, now.join(''), { mode: 0o640 });
    lines = lines.slice(now.length);
  };
  const kick = (): Promise<void> => {
    writing ??= flush()
      .catch((cause: NodeJS.ErrnoException) => {
        log.warn({ event: 'activity.file_not_written', path, code: cause.code, waiting: lines.length, lost }, 'the activity file cannot be written; retrying');
        timer ??= setTimeout(() => {
          timer = null;
          void kick();
        }, AGAIN_MS).unref();
      })
      .finally(() => {
        writing = null;
      });
    return writing;
  };
  return {
    write(entries) {
      const room = MAX_WAITING - lines.length;
      lost += Math.max(0, entries.length - room);
      lines = [...lines, ...entries.slice(0, Math.max(0, room)).map(lineOf)];
      void kick();
    },
    async stop() {
      if (timer) clearTimeout(timer);
      await kick();
      if (lines.length > 0) await kick();
    },
  };
}
