import { createHash } from 'node:crypto';
import { base64url } from '../../core/identifiers.ts';
import type { Secret } from '../../core/secret.ts';
import { hashOf } from '../hash.ts';
import { recordId } from '../ports.ts';
import type { KnownCaller } from '../tokens/index.ts';
import type { ToolSignInParts } from './parts.ts';
import { RELAY_TOKEN_PREFIX } from './requests.ts';
import { endSignIns } from './sign-ins.ts';

/** What a tool shows, checked and not spent yet: first the connection's token is got, so that a passing trouble costs the tool nothing. */
export interface Shown {
  connection: string;
  /** Spends what was shown and brings the next refresh token, or null: another was faster, which counts as use twice. */
  spend(): Promise<{ refreshToken: string; signInId: string } | null>;
}
export type ToolRefusal = { refused: string };

/** Codes, rotating refresh tokens and opaque access tokens of tools (RFC 6749 §4.1.3, §6; RFC 9700 §4.14). */
export interface ToolTokens {
  showCode(caller: KnownCaller, code: string, redirectUri: string | undefined, verifier: string | undefined): Promise<Shown | ToolRefusal>;
  showRefreshToken(caller: KnownCaller, token: string): Promise<Shown | ToolRefusal>;
  /** An opaque access token that is good for the relay alone. */
  relayToken(signInId: string): Promise<{ token: string; seconds: number }>;
  /** Remembers, by its hash, which tool holds an access token of the provider: its user-info request names nobody else. */
  noteHanded(signInId: string, access: Secret, endsAt: number): Promise<void>;
  /** Who consented to the connection for which this token was handed to a tool (OpenID Connect Core §5.3.2); null: not ours, expire, or the sign-in is over. */
  userInfo(token: string): Promise<Record<string, string> | null>;
  /** RFC 7009: a refresh token ends the sign-in; an opaque access token ends alone; what is not ours, or not this caller's, is left. */
  revoke(caller: KnownCaller, token: string): Promise<void>;
}

const REFRESH_PREFIX = 'rkr_';
const REFRESH_DAYS = 90;
const RELAY_TOKEN_SECONDS = 3_600;

export function toolTokens(s: ToolSignInParts): ToolTokens {
  const { store, ports } = s;
  const { toolSignIns } = store;
  const fresh = (prefix: string) => `${prefix}${base64url(ports.random.bytes(32))}`;
  const nextRefresh = (signInId: string) => {
    const token = fresh(REFRESH_PREFIX);
    const now = ports.clock.now();
    return { token, row: { hash: hashOf(token), signInId, kind: 'refresh' as const, createdAt: now, endsAt: now + REFRESH_DAYS * 86_400_000, spentAt: null } };
  };
  const usedTwice = async (caller: KnownCaller, signInId: string, what: 'code_reused' | 'token_reused'): Promise<void> => {
    if ((await endSignIns(s, { id: signInId }, what)) === 0) return;
    s.history.add({
      actor: caller.name,
      kind: 'tool_signed_out',
      subject: `caller:${caller.name}`,
      says: `${what === 'code_reused' ? 'A code' : 'A refresh token'} of a tool was used twice: someone else has a copy. That sign-in was ended; sign the tool in again.`,
    });
  };
  return {
    async showCode(caller, code, redirectUri, verifier) {
      const row = await toolSignIns.requestByCode(hashOf(code));
      if (!row || row.callerId !== caller.id || row.connectionId === null) return { refused: 'The code is unknown, or another caller\u2019s.' };
      if (row.phase === 'spent') {
        if (row.signInId) await usedTwice(caller, row.signInId, 'code_reused');
        return { refused: 'The code was used before. What it had brought was ended.' };
      }
      if (row.phase !== 'coded' || (row.codeEndsAt ?? 0) <= ports.clock.now()) return { refused: 'The code has expired: it is good for a minute.' };
      if (row.redirectUriGiven ? redirectUri !== row.redirectUri : redirectUri !== undefined && redirectUri !== row.redirectUri)
        return { refused: 'The redirect_uri is another than the one with which the code was requested.' };
      if (row.challenge === null && verifier !== undefined) return { refused: 'A code_verifier came, but the code was requested without a code_challenge.' };
      if (row.challenge !== null) {
        if (verifier === undefined || !/^[A-Za-z0-9._~-]{43,128}$/.test(verifier))
          return { refused: 'The code_verifier is missing or malformed (RFC 7636 §4.1).' };
        if (createHash('sha256').update(verifier, 'ascii').digest('base64url') !== row.challenge)
          return { refused: 'The code_verifier does not fit the code_challenge.' };
      }
      const { connectionId, operator } = row;
      const connection = (await store.connections.byId(connectionId))?.name;
      if (connection === undefined) return { refused: 'The connection was removed.' };
      return {
        connection,
        async spend() {
          const signInId = recordId(ports);
          const next = nextRefresh(signInId);
          const now = ports.clock.now();
          const signIn = {
            id: signInId,
            callerId: caller.id,
            connectionId,
            operator: operator ?? '',
            createdAt: now,
            lastUsedAt: now,
            endedAt: null,
            endedWhy: null,
          };
          const taken = await toolSignIns.spendCode(row.id, signIn, next.row);
          if (taken) return { refreshToken: next.token, signInId };
          const other = await toolSignIns.request(row.id);
          if (other?.signInId) await usedTwice(caller, other.signInId, 'code_reused');
          return null;
        },
      };
    },
    async showRefreshToken(caller, token) {
      const row = await toolSignIns.token(hashOf(token));
      const signIn = row && (await toolSignIns.byId(row.signInId));
      if (row?.kind !== 'refresh' || !signIn || signIn.callerId !== caller.id) return { refused: 'The refresh token is unknown, or another caller\u2019s.' };
      if (signIn.endedAt !== null) return { refused: `This sign-in is over (${(signIn.endedWhy ?? '').replaceAll('_', ' ')}). Sign in again.` };
      if (row.spentAt !== null) {
        await usedTwice(caller, signIn.id, 'token_reused');
        return { refused: 'The refresh token was used before: someone else has a copy. The sign-in was ended.' };
      }
      if (row.endsAt <= ports.clock.now()) return { refused: `The refresh token was not used for ${REFRESH_DAYS} days.` };
      const connection = (await store.connections.byId(signIn.connectionId))?.name;
      if (connection === undefined) return { refused: 'The connection was removed.' };
      return {
        connection,
        async spend() {
          const next = nextRefresh(signIn.id);
          const taken = await toolSignIns.spendRefreshToken(row.hash, { id: signIn.id, usedAt: ports.clock.now() }, next.row);
          if (!taken) {
            await usedTwice(caller, signIn.id, 'token_reused');
            return null;
          }
          // What was spent is kept for as long as a copy of it could still be shown.
          await toolSignIns.deleteExpiredTokens();
          return { refreshToken: next.token, signInId: signIn.id };
        },
      };
    },
    async relayToken(signInId) {
      const token = fresh(RELAY_TOKEN_PREFIX);
      const now = ports.clock.now();
      await toolSignIns.addToken({
        hash: hashOf(token),
        signInId,
        kind: 'access',
        createdAt: now,
        endsAt: now + RELAY_TOKEN_SECONDS * 1000,
        spentAt: null,
      });
      return { token, seconds: RELAY_TOKEN_SECONDS };
    },
    noteHanded: (signInId, access, endsAt) => toolSignIns.noteIssued(hashOf(access.reveal()), signInId, endsAt),
    async userInfo(token) {
      const found = await toolSignIns.accountOf(hashOf(token));
      if (!found) return null;
      const label = found.accountLabel ?? found.connection;
      return {
        sub: found.accountId ?? `connection:${found.connection}`,
        name: label,
        preferred_username: label,
        ...(/^[^@\s]+@[^@\s]+$/.test(label) ? { email: label } : {}),
      };
    },
    async revoke(caller, token) {
      const row = await toolSignIns.token(hashOf(token));
      const signIn = row && (await toolSignIns.byId(row.signInId));
      if (!row || !signIn || signIn.callerId !== caller.id) return;
      if (row.kind === 'refresh') {
        await endSignIns(s, { id: signIn.id }, 'tool_revoked');
        return;
      }
      await toolSignIns.spend(row.hash);
      await s.changes.announce('caller', caller.name);
    },
  };
}
