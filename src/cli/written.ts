import { writeFileSync } from 'node:fs';
import { EXIT, Outcome } from './exit.ts';

/** Secrets are not printed: they go to a new file that only its owner can read. @throws {Outcome} */
export function written(file: string, text: string): void {
  try {
    writeFileSync(file, `${text}\n`, { mode: 0o600, flag: 'wx' });
  } catch (error) {
    const why = (error as NodeJS.ErrnoException).code === 'EEXIST' ? 'It exists already.' : 'It cannot be written.';
    throw new Outcome(EXIT.failed, `${file}: ${why}\nWhat to do: name another file with --to.`);
  }
}
