import { parse } from 'cookie';
import type { Request, Response } from 'express';
import { sessionCookieName } from '../../api/session-cookie.ts';
import { Fault } from '../../core/fault.ts';
import type { SignedInOperator } from '../operation-call.ts';
import type { Operators } from '../operators/index.ts';

/** Reads and writes our cookies, and says who is signed in. The public URL alone decides `Secure`. */
export interface Sessions {
  operator(request: Request): Promise<SignedInOperator | null>;
  give(response: Response, session: { token: string; endsAt: number; device: string }): void;
  /** What this browser got at an earlier sign-in. */
  device(request: Request): string | undefined;
  take(response: Response): void;
  cookie(request: Request, name: string): string | undefined;
  /** For requests that change something with the help of a cookie. @throws {Fault} ORIGIN_FOREIGN */
  checkOrigin(request: Request): void;
  giveConsentCookie(response: Response, name: string, value: string, maxAgeSeconds: number): void;
}

const DEVICE_MS = 365 * 86_400_000;

export function sessions(operators: Operators, publicUrl: string): Sessions {
  const secure = publicUrl.startsWith('https:');
  const name = sessionCookieName(publicUrl);
  const deviceName = name.replace('session', 'device');
  const cookie = (request: Request, wanted: string): string | undefined => parse(request.headers.cookie ?? '')[wanted];
  const bearer = (request: Request): string | undefined => /^Bearer ([A-Za-z0-9_-]{20,100})$/.exec(request.headers.authorization ?? '')?.[1];
  return {
    cookie,
    async operator(request) {
      const token = bearer(request);
      if (token) {
        const found = await operators.check(token, request.ip ?? '');
        return found?.kind === 'browser' ? null : found; // a browser's session is good in its cookie alone
      }
      const kept = cookie(request, name);
      const found = kept ? await operators.check(kept, request.ip ?? '') : null;
      return found?.kind === 'browser' ? found : null;
    },
    give(response, { token, endsAt, device }) {
      response.cookie(name, token, { httpOnly: true, sameSite: 'strict', secure, path: '/', expires: new Date(endsAt) });
      response.cookie(deviceName, device, { httpOnly: true, sameSite: 'strict', secure, path: '/', maxAge: DEVICE_MS });
    },
    device: (request) => cookie(request, deviceName),
    take: (response) => void response.clearCookie(name, { httpOnly: true, sameSite: 'strict', secure, path: '/' }),
    checkOrigin(request) {
      if (bearer(request)) return; // a page of another site cannot set this header
      const { origin } = request.headers;
      const site = request.headers['sec-fetch-site'];
      if (origin === publicUrl || (origin === undefined && (site === 'same-origin' || site === undefined))) return;
      throw new Fault('ORIGIN_FOREIGN', { detail: `The console lives at ${publicUrl}.` });
    },
    // Lax, not Strict: it must come along when the provider sends the browser back.
    giveConsentCookie: (response, cookieName, value, maxAgeSeconds) =>
      void response.cookie(cookieName, value, { httpOnly: true, sameSite: 'lax', secure, path: '/', maxAge: maxAgeSeconds * 1000 }),
  };
}
