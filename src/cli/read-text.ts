import { readFileSync } from 'node:fs';
import { UsageError } from './exit.ts';

/** A file that an option names. @throws {UsageError} */
export const readText = (file: string): string => {
  try {
    return readFileSync(file, 'utf8');
  } catch {
    throw new UsageError(`${file} cannot be read.`);
  }
};
