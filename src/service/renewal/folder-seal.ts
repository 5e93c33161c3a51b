import { hkdfSync } from 'node:crypto';
import { open, seal, sealedKeyId } from '../../core/sealing/envelope.ts';
import type { MasterKey } from '../../core/sealing/master-key.ts';
import type { Ports } from '../ports.ts';

/** Seals the files of the data folder under a key from the master key: the data keys are in the database, which may be lost or may have gone back. */
export interface FolderSeal {
  seal(row: string, text: string): Buffer;
  /** @throws {Fault} SEAL_BROKEN */
  open(row: string, sealed: Uint8Array): string;
  /** Sealed under the master key before this one. */
  isFormer(sealed: Uint8Array): boolean;
}

/** @param use such as `spill/1`: each use has a key of its own */
export function folderSeal(
  use: string,
  place: { table: string; column: string },
  { master, former, ports }: { master: MasterKey; former: MasterKey | null; ports: Pick<Ports, 'random'> },
): FolderSeal {
  const keyUnder = ({ id, bytes }: MasterKey) => ({ id, bytes: new Uint8Array(hkdfSync('sha256', bytes, new Uint8Array(), use, 32)) });
  const key = keyUnder(master);
  const formerKey = former && keyUnder(former);
  const isFormer = (sealed: Uint8Array): boolean => formerKey !== null && sealedKeyId(sealed) === Buffer.from(formerKey.id).toString('hex');
  return {
    isFormer,
    seal: (row, text) => seal(key, ports.random.bytes(12), { ...place, row }, Buffer.from(text, 'utf8')),
    open: (row, sealed) => open(formerKey && isFormer(sealed) ? formerKey : key, { ...place, row }, sealed).toString('utf8'),
  };
}
