import { randomBytes } from 'node:crypto';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { readDefinition } from '../../src/core/provider/read-definition.ts';
import { addSecret, openClient } from '../../src/standins/console/record.ts';
import { type RunningStandin, startStandin } from '../../src/standins/main.ts';
import type { RefreshUse } from '../../src/standins/server-parts.ts';

export const KINDS = ['grace', 'strict', 'never'] as const;
export type Kind = (typeof KINDS)[number];
const definition = (name: string) => readFileSync(new URL(`../../definitions/${name}.yaml`, import.meta.url), 'utf8');
/** Eelgrass forgives for 30 s, Berthline does not, and a third, made from the first, never replaces a refresh token. */
const TEXTS: Record<Kind, () => string> = {
  grace: () => definition('eelgrass'),
  strict: () => definition('berthline'),
  never: () =>
    definition('eelgrass')
      .replace('name: eelgrass', 'name: tidewrack')
      .replace('rotation: each_use\n  reuse: grace\n  reuse_grace_seconds: 30', 'rotation: never'),
};
export const PROVIDERS: Record<Kind, { provider: string; placeholders: Record<string, string>; realm: string; check: string }> = {
  grace: { provider: 'eelgrass', placeholders: {}, realm: '', check: '/userinfo' },
  strict: { provider: 'berthline', placeholders: { region: 'north' }, realm: 'north', check: '/v1/me' },
  never: { provider: 'tidewrack', placeholders: {}, realm: '', check: '/userinfo' },
};

/** The file in a replica's data folder that says how each of its requests ended. */
export const SENDS = 'sends.log';

/** A use of a refresh token that the provider answered with new tokens, and how it ended. */
interface Use {
  sender: string;
  /** Names the request in the sender's own log. */
  id: string;
  at: number;
  /** Null: not closed yet. */
  delivered: boolean | null;
}

interface Judged {
  /** Second uses at the strict provider while the answer to the first was held. */
  held: string[];
  /** Second uses after a wait as long as the holder wait: allowed. */
  declared: number;
  /** Second uses whose first answer nobody could still bring. */
  excused: number;
}

export interface Provider {
  kind: Kind;
  standin: RunningStandin;
  clientId: string;
  secret: string;
  /** Makes a grant with its first tokens. */
  give(): { grantId: string; access: string; refresh: string; issuedAt: number; expiresAt: number };
  /** True for a refresh token that was not replaced by a new one. */
  isCurrent(token: string): boolean;
  /** The last use of a grant's refresh token that the provider answered with new tokens. */
  lastUse(grantId: string): Use | undefined;
  judged: Judged;
}

export interface World {
  /** A sender (replica and life) that can still bring an answer: it runs, or is frozen. */
  lives(sender: string): boolean;
  /** What the sender itself says of a request; null: nothing yet, so that the answer may lie in its socket. */
  said(use: Pick<Use, 'sender' | 'id'>): 'got' | 'gone' | null;
  /** The folders in which an answer to this grant could lie. */
  spills(): string[];
  /** Our own id of a provider's grant. */
  ours: Map<string, string>;
  holderWaitMs: number;
}

const opaque = (prefix: string): string => `${prefix}${randomBytes(18).toString('base64url')}`;

export async function startProvider(kind: Kind, world: World, lives: { least: number; most: number }): Promise<Provider> {
  const firstUses = new Map<string, Use>();
  const lastUse = new Map<string, Use>();
  const judged: Judged = { held: [], declared: 0, excused: 0 };
  const isSpilled = (grantId: string): boolean => {
    const ours = world.ours.get(grantId) ?? 'unknown';
    return world.spills().some((folder) => {
      try {
        return readdirSync(join(folder, 'spill')).some((file) => file.startsWith(ours) && file.endsWith('.json'));
      } catch {
        return false; // no folder yet: nothing was ever spilled there
      }
    });
  };
  const judge = (use: RefreshUse): void => {
    const first = firstUses.get(use.token);
    const sender = String(use.headers['x-sender'] ?? '');
    if (!first) return;
    const couldBring = first.delivered !== false && world.lives(first.sender) && world.said(first) !== 'gone';
    if (!couldBring && !isSpilled(use.grantId ?? '')) judged.excused += 1;
    else if (Date.now() - first.at >= world.holderWaitMs) judged.declared += 1;
    else
      judged.held.push(
        `${sender} used a token again ${Date.now() - first.at} ms after ${first.sender} had (${first.delivered === null ? 'in flight' : first.delivered ? 'answered' : 'spilled'})`,
      );
  };
  const standin = await startStandin({
    definitionText: TEXTS[kind](),
    port: 0,
    accessSeconds: lives.least,
    accessSecondsMost: lives.most,
    watch: (use) => {
      if (kind === 'strict' && use.second) judge(use);
      if (!use.renewed || use.second || use.grantId === null) return;
      const made: Use = { sender: String(use.headers['x-sender'] ?? ''), id: String(use.headers['x-send'] ?? ''), at: Date.now(), delivered: null };
      firstUses.set(use.token, made);
      void use.closed.then((delivered) => {
        made.delivered = delivered;
      });
      lastUse.set(use.grantId, made);
    },
  });
  const definition = readDefinition(standin.definitionText);
  const client = openClient(definition, PROVIDERS[kind].realm, 'soak', Date.now());
  const { value: secret } = addSecret(definition, client, { now: Date.now() });
  standin.store.state.clients[client.id] = client;
  return {
    kind,
    standin,
    clientId: client.id,
    secret,
    judged,
    isCurrent: (token) => standin.store.state.refreshTokens[token]?.replacedAt === null,
    lastUse: (grantId) => lastUse.get(grantId),
    give() {
      const { state } = standin.store;
      const grant = {
        id: opaque('g.'),
        clientId: client.id,
        sub: 'eg-1042',
        scopes: ['profile', 'bookings.read', 'tables.read'],
        withdrawn: false,
        refreshes: 0,
        givenAt: Date.now(),
      };
      const [access, refresh] = [opaque('a.'), opaque('r.')];
      const issuedAt = Date.now();
      const expiresAt = issuedAt + (lives.least + Math.random() * (lives.most - lives.least)) * 1000;
      state.grants[grant.id] = grant;
      state.accessTokens[access] = { grantId: grant.id, scopes: grant.scopes, expiresAt };
      state.refreshTokens[refresh] = { grantId: grant.id, replacedAt: null };
      return { grantId: grant.id, access, refresh, issuedAt, expiresAt };
    },
  };
}
