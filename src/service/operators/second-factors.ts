import type { AuthenticationResponseJSON, RegistrationResponseJSON } from '@simplewebauthn/server';
import { generateSecret, generateURI, verify } from 'otplib';
import { toString as qrCode } from 'qrcode';
import { z } from 'zod';
import { Fault } from '../../core/fault.ts';
import { base64url } from '../../core/identifiers.ts';
import { Secret } from '../../core/secret.ts';
import { hashOf } from '../hash.ts';
import { recordId } from '../ports.ts';
import type { FactorRow } from '../store/second-factors.ts';
import type { OperatorParts } from './parts.ts';

export interface FactorProof {
  code?: string | undefined;
  passkey?: Record<string, unknown> | undefined;
}

const PERIOD_SECONDS = 30;
const RECOVERY_CODES = 10;
const NAME = 'Rusty Kettle';
const SETTING_UP_MS = 15 * 60_000;
const place = (factorId: string) => ({ table: 'second_factors', row: factorId, column: 'secret_sealed' });

/** Why passkeys cannot be used at this address; null: they can (WebAuthn §5.1.3: a relying party is a host name, over TLS or on this machine). */
export function whyNoPasskeys(publicUrl: string): string | null {
  const { protocol, hostname } = new URL(publicUrl);
  if (/^[\d.]+$/.test(hostname) || hostname.startsWith('[')) return 'Browsers need a host name for passkeys; the public URL is an IP address.';
  if (protocol !== 'https:' && hostname !== 'localhost' && !hostname.endsWith('.localhost')) return 'Browsers need https for passkeys.';
  return null;
}

/** Large, and seldom needed: without it a start takes a fifth less. */
const webauthn = () => import('@simplewebauthn/server');

/** Authenticator apps (RFC 6238), passkeys (WebAuthn Level 2) and recovery codes. */
export function secondFactors(s: OperatorParts) {
  const { secondFactors: store } = s.store;
  const verified = async (operatorId: string): Promise<FactorRow[]> => (await store.ofOperator(operatorId)).filter((one) => one.verifiedAt !== null);
  const { hostname: relyingParty } = new URL(s.publicUrl);
  const now = () => s.ports.clock.now();

  /** The time step of a good code, later than `after`; null: it is wrong or was used. */
  const stepOf = async (row: FactorRow, code: string): Promise<number | null> => {
    if (!row.secretSealed || !/^\d{6}$/.test(code)) return null;
    const secret = await s.sealer.open(place(row.id), row.secretSealed);
    const result = await verify({
      secret: secret.reveal(),
      token: code,
      epoch: Math.floor(now() / 1000),
      epochTolerance: PERIOD_SECONDS, // RFC 6238 §5.2: one step, for clocks that differ
      ...(row.counter > 0 ? { afterTimeStep: row.counter } : {}),
    });
    return result.valid && 'timeStep' in result ? result.timeStep : null;
  };
  const isPasskeyGood = async (operatorId: string, answer: Record<string, unknown>, isChallenge: (challenge: string) => Promise<boolean>): Promise<boolean> => {
    const read = z.object({ id: z.string().max(2_000) }).safeParse(answer);
    const row = (await verified(operatorId)).find((one) => one.credentialId !== null && one.credentialId.toString('base64url') === read.data?.id);
    if (!row?.credentialId || !row.publicKey) return false;
    try {
      const result = await (await webauthn()).verifyAuthenticationResponse({
        response: answer as unknown as AuthenticationResponseJSON,
        expectedChallenge: isChallenge,
        expectedOrigin: s.publicUrl,
        expectedRPID: relyingParty,
        requireUserVerification: false, // the password was the other factor
        credential: { id: row.credentialId.toString('base64url'), publicKey: new Uint8Array(row.publicKey), counter: row.counter },
      });
      const { newCounter } = result.authenticationInfo;
      return result.verified && (await store.use(row.id, newCounter, now(), newCounter === 0));
    } catch {
      return false; // the library names what is wrong with a forged answer; whoever forges it need not know
    }
  };
  const recoveryCode = (): string => {
    const text = Buffer.from(s.ports.random.bytes(10)).toString('hex').slice(0, 16);
    return `${text.slice(0, 4)}-${text.slice(4, 8)}-${text.slice(8, 12)}-${text.slice(12)}`;
  };
  const newCodes = async (operatorId: string): Promise<string[]> => {
    const codes = Array.from({ length: RECOVERY_CODES }, recoveryCode);
    await store.replaceCodes(
      operatorId,
      codes.map((code) => ({ id: recordId(s.ports), hash: hashOf(code) })),
    );
    return codes;
  };
  const beginning = (operatorId: string, kind: FactorRow['kind'], name: string): FactorRow => ({
    ...{ id: recordId(s.ports), operatorId, kind, name, secretSealed: null, credentialId: null, publicKey: null },
    ...{ counter: 0, challenge: null, verifiedAt: null, createdAt: now(), lastUsedAt: null },
  });

  return {
    verified,
    codesLeft: store.codesLeft,
    /** What may be asked for at sign-in; empty: no second factor is set up. */
    async methods(operatorId: string): Promise<('code' | 'passkey')[]> {
      const rows = await verified(operatorId);
      if (rows.length === 0) return [];
      // A recovery code goes where a code goes.
      return rows.some((one) => one.kind === 'passkey') && whyNoPasskeys(s.publicUrl) === null ? ['code', 'passkey'] : ['code'];
    },
    /** Options for the browser, or null where there is no passkey. @param challenge base64url */
    async passkeyOptions(operatorId: string, challenge: string): Promise<Record<string, unknown> | null> {
      const keys = (await verified(operatorId)).flatMap((one) => (one.credentialId ? [{ id: one.credentialId.toString('base64url') }] : []));
      if (keys.length === 0 || whyNoPasskeys(s.publicUrl) !== null) return null;
      return {
        ...(await (
          await webauthn()
        ).generateAuthenticationOptions({
          rpID: relyingParty,
          allowCredentials: keys,
          challenge: Buffer.from(challenge, 'base64url'),
          userVerification: 'preferred',
        })),
      };
    },
    /** Whether a proof is good; each works once. @param isChallenge of a passkey's answer */
    async isGood(operatorId: string, proof: FactorProof, isChallenge: (challenge: string) => Promise<boolean>): Promise<boolean> {
      if (proof.passkey) return isPasskeyGood(operatorId, proof.passkey, isChallenge);
      const code = proof.code?.replaceAll(' ', '') ?? '';
      for (const row of (await verified(operatorId)).filter((one) => one.kind === 'authenticator')) {
        const step = await stepOf(row, code);
        if (step !== null) return store.use(row.id, step, now(), false);
      }
      return /^[0-9a-f]{4}(-[0-9a-f]{4}){3}$/.test(code) && store.useCode(operatorId, hashOf(code));
    },
    async startAuthenticator(operator: { id: string; name: string }, name: string) {
      const secret = generateSecret();
      const row = beginning(operator.id, 'authenticator', name);
      await store.add({ ...row, secretSealed: s.sealer.seal(place(row.id), new Secret(secret)) });
      const uri = generateURI({ issuer: `${NAME} (${new URL(s.publicUrl).host})`, label: operator.name, secret });
      return { factor: row.id, uri, secret, qr: await qrCode(uri, { type: 'svg', margin: 1 }) };
    },
    /** @throws {Fault} INPUT_INVALID where browsers do not offer passkeys */
    async startPasskey(operator: { id: string; name: string }, name: string) {
      const why = whyNoPasskeys(s.publicUrl);
      if (why !== null)
        throw new Fault('INPUT_INVALID', { detail: why, remedy: 'Use an authenticator app, or set RUSTY_KETTLE_PUBLIC_URL to an https address.' });
      const row = beginning(operator.id, 'passkey', name);
      const known = (await verified(operator.id)).flatMap((one) => (one.credentialId ? [{ id: one.credentialId.toString('base64url') }] : []));
      const options = await (await webauthn()).generateRegistrationOptions({
        rpName: NAME,
        rpID: relyingParty,
        userName: operator.name,
        userID: new Uint8Array(Buffer.from(operator.id)),
        challenge: new Uint8Array(s.ports.random.bytes(32)),
        excludeCredentials: known,
        authenticatorSelection: { residentKey: 'discouraged', userVerification: 'preferred' },
      });
      await store.add({ ...row, challenge: options.challenge });
      return { factor: row.id, options: { ...options } };
    },
    /** @returns recovery codes, where this is the first. @throws {Fault} NOT_FOUND, SECOND_FACTOR_WRONG */
    async finish(operatorId: string, factorId: string, proof: FactorProof): Promise<{ row: FactorRow; codes: string[] }> {
      const row = z.uuid().safeParse(factorId).success ? await store.byId(factorId) : null;
      if (row?.operatorId !== operatorId || row.verifiedAt !== null || now() - row.createdAt > SETTING_UP_MS)
        throw new Fault('NOT_FOUND', { detail: 'This second factor is not being set up.', remedy: 'Begin again.' });
      if (row.kind === 'authenticator') {
        const step = await stepOf(row, proof.code?.replaceAll(' ', '') ?? '');
        if (step === null)
          throw new Fault('SECOND_FACTOR_WRONG', { remedy: 'Enter the code that the app shows now. Check that the phone\u2019s clock is set automatically.' });
        await store.verified(row.id, { verifiedAt: now(), counter: step, credentialId: null, publicKey: null });
      } else {
        const made = await (await webauthn())
          .verifyRegistrationResponse({
            response: (proof.passkey ?? {}) as unknown as RegistrationResponseJSON,
            expectedChallenge: row.challenge ?? '',
            expectedOrigin: s.publicUrl,
            expectedRPID: relyingParty,
            requireUserVerification: false,
          })
          .catch((cause: unknown) => {
            throw new Fault('SECOND_FACTOR_WRONG', { cause, detail: 'The browser\u2019s answer is not that of a new passkey for this address.' });
          });
        if (!made.verified) throw new Fault('SECOND_FACTOR_WRONG');
        const { credential } = made.registrationInfo;
        await store.verified(row.id, {
          ...{ verifiedAt: now(), counter: credential.counter },
          ...{ credentialId: Buffer.from(credential.id, 'base64url'), publicKey: Buffer.from(credential.publicKey) },
        });
      }
      return { row, codes: (await store.codesLeft(operatorId)) > 0 ? [] : await newCodes(operatorId) };
    },
    newCodes,
    /** Recovery codes go with the last factor. @throws {Fault} NOT_FOUND */
    async remove(operatorId: string, factorId: string): Promise<void> {
      if (!z.uuid().safeParse(factorId).success || !(await store.remove(operatorId, factorId)))
        throw new Fault('NOT_FOUND', { detail: 'This second factor is not set up.' });
      if ((await verified(operatorId)).length === 0) await store.removeAll(operatorId);
    },
    removeAll: store.removeAll,
    /** A challenge of 32 random bytes, base64url. */
    challenge: (): string => base64url(s.ports.random.bytes(32)),
  };
}
export type SecondFactors = ReturnType<typeof secondFactors>;
