import { mkdirSync, readdirSync, readFileSync, renameSync } from 'node:fs';
import { open, rename, rm } from 'node:fs/promises';
import { join } from 'node:path';
import type { GrantKind } from '../../core/oauth/grant-kinds.ts';
import type { FreshTokens } from '../../core/oauth/token-answer.ts';
import type { TokenLife } from '../../core/renewal/plan.ts';
import type { MasterKey } from '../../core/sealing/master-key.ts';
import { Secret } from '../../core/secret.ts';
import type { Ports } from '../ports.ts';
import { folderSeal } from './folder-seal.ts';

/** What the first answer of a consent needs besides its tokens, to become a grant after a crash. */
export interface FirstAnswer {
  consentId: string;
  connectionId: string;
  clientId: string;
  consentedBy: string;
  scopes: string[];
  probed: boolean;
  /** How long the grant lives at most, in ms; 0: not known. */
  livesMs: number;
  /** Left out in files of earlier versions: a code. */
  grantType?: GrantKind;
  placeholders?: Record<string, string>;
  subject?: string | null;
  /** Idle life of the refresh token, in seconds; left out: not known. */
  idleLifeSeconds?: number | undefined;
}

/** An answer on its way to the database: what T4, or the insert of a new grant, needs to be run again after a crash. */
export interface SpilledAnswer {
  first?: FirstAnswer;
  grantId: string;
  epoch: number;
  generation: number;
  tokens: FreshTokens;
  life: TokenLife;
}

/**
 * T5: answers that the database has not acknowledged, sealed, one file each, fsynced before it counts. Sealed under a key derived
 * from the master key, because the data keys live in the database that cannot be reached.
 */
export interface Spill {
  write(answer: SpilledAnswer): Promise<void>;
  remove(answer: Pick<SpilledAnswer, 'grantId' | 'epoch'>): Promise<void>;
  /** What an earlier lifetime left; a torn file that does not open is set aside, not deleted. */
  left(): SpilledAnswer[];
  waiting(): number;
}

const NAME = /^([0-9a-f-]{36})-(\d+)\.(json|tmp)$/;

export function spill(deps: { folder: string; master: MasterKey; former: MasterKey | null; ports: Pick<Ports, 'random' | 'log'> }): Spill {
  const { master, former, ports } = deps;
  const folder = join(deps.folder, 'spill');
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const sealed = folderSeal('spill/1', { table: 'spill', column: 'answer' }, { master, former, ports });
  const stem = (answer: Pick<SpilledAnswer, 'grantId' | 'epoch'>) => `${answer.grantId}-${answer.epoch}`;
  const present = new Set<string>();

  return {
    async write(answer) {
      const name = stem(answer);
      const file = await open(join(folder, `${name}.tmp`), 'w', 0o600);
      try {
        await file.writeFile(sealed.seal(name, answerText(answer)));
        await file.sync();
      } finally {
        await file.close();
      }
      await rename(join(folder, `${name}.tmp`), join(folder, `${name}.json`));
      const directory = await open(folder, 'r');
      try {
        await directory.sync(); // the name must outlive a power cut too
      } finally {
        await directory.close();
      }
      present.add(name);
    },
    async remove(answer) {
      const name = stem(answer);
      present.delete(name);
      await rm(join(folder, `${name}.json`), { force: true }); // not in this thread: a file system takes its time
    },
    left() {
      const found: SpilledAnswer[] = [];
      for (const file of readdirSync(folder)) {
        const match = NAME.exec(file);
        if (!match) continue;
        const name = `${match[1]}-${match[2]}`;
        try {
          found.push(answerOf(sealed.open(name, readFileSync(join(folder, file)))));
          if (match[3] === 'tmp') renameSync(join(folder, file), join(folder, `${name}.json`)); // whole after all: only the rename was missing
          present.add(name);
        } catch (cause) {
          renameSync(join(folder, file), join(folder, `${file}.torn`));
          ports.log.error(
            { event: 'renewals.spill_not_readable', file, cause: cause instanceof Error ? cause.message : 'unreadable' },
            'a spill file does not open; it is set aside',
          );
        }
      }
      return found;
    },
    waiting: () => present.size,
  };
}

/** An answer as the data folder holds it, before it is sealed. */
export const answerText = (answer: SpilledAnswer): string => {
  const { access, refresh, ...rest } = answer.tokens;
  return JSON.stringify({ ...answer, tokens: { ...rest, access: access.reveal(), refresh: refresh?.reveal() ?? null } });
};
export const answerOf = (text: string): SpilledAnswer => {
  const read = JSON.parse(text) as Omit<SpilledAnswer, 'tokens'> & {
    tokens: { access: string; refresh: string | null; lifeMs: number | null; scopes: string[] | null };
  };
  const { access, refresh, ...rest } = read.tokens;
  return { ...read, tokens: { ...rest, access: new Secret(access), refresh: refresh === null ? null : new Secret(refresh) } };
};
