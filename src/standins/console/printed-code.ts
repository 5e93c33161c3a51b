import { randomInt } from 'node:crypto';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { PrintedCode, RegisteredClient, StandinStore } from '../state.ts';

const LETTERS = 'BCDFGHJKLMNPQRSTVWXZ23456789';
const group = (): string => Array.from({ length: 4 }, () => LETTERS[randomInt(LETTERS.length)]).join('');

/** A grant code for one person's account, to be pasted into a program within minutes. */
export function printCode(
  { definition, client, store, now }: { definition: ProviderDefinition; client: RegisteredClient; store: StandinStore; now: number },
  sub: string,
): PrintedCode & { code: string } {
  const code = [group(), group(), group()].join('-');
  const printed = { clientId: client.id, sub, scopes: [...client.scopes], endsAt: now + (definition.registration.printed_code_seconds ?? 240) * 1000 };
  store.state.printedCodes[code] = printed;
  store.touch();
  return { ...printed, code };
}
