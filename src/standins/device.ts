import { randomInt } from 'node:crypto';
import express, { Router } from 'express';
import { type Answer, opaque, refusal, scopesOf } from './answers.ts';
import { checkClient } from './client-check.ts';
import { consentPage, deviceCodePage, deviceDonePage, signInPage, stopPage } from './pages.ts';
import type { ServerParts } from './server-parts.ts';
import type { RegisteredClient } from './state.ts';
import { ACCOUNTS, STANDIN_PASSWORD } from './world.ts';

/** One device authorization (RFC 8628), from the request for a code to the decision of the person who entered it. */
export interface DeviceRequest {
  client: RegisteredClient;
  userCode: string;
  scopes: string[];
  offline: boolean;
  sub: string | null;
  decided: 'agreed' | 'refused' | null;
  granted: string[];
  endsAt: number;
  intervalMs: number;
  polledAt: number;
}

const LIFE_SECONDS = 300;
const INTERVAL_SECONDS = 1;
const LETTERS = 'BCDFGHJKLMNPQRSTVWXZ';
const form = express.urlencoded({ extended: false, limit: '64kb' });
const text = (value: unknown): string => (typeof value === 'string' ? value : '');
const newUserCode = (): string => [0, 1].map(() => Array.from({ length: 4 }, () => LETTERS[randomInt(LETTERS.length)]).join('')).join('-');

/** The device endpoint, and the page where the person enters the code; none where the definition names no such endpoint. */
export function deviceFlow(parts: ServerParts, devices: Map<string, DeviceRequest>, asksOffline: (query: Record<string, unknown>) => boolean): Router {
  const router = Router();
  const endpoint = parts.definition.server.device_authorization_endpoint;
  if (!endpoint) return router;
  const { pathname, origin } = new URL(endpoint);
  const page = `${pathname}/enter`;
  router.post(pathname, parts.faults.guard('token'), form, async (request, response) => {
    const known = await checkClient(parts, request);
    parts.count(`device.${known ? 'ok' : 'invalid_client'}`);
    const answer = known ? null : refusal(parts, 401, 'invalid_client', 'Client authentication failed.');
    if (!known || answer) return void response.status(answer?.status ?? 401).json(answer?.body);
    const scopes = scopesOf(parts, text(request.body?.scope));
    const unknown = scopes.find((scope) => !parts.definition.scopes.some((one) => one.name === scope));
    if (unknown !== undefined) return void response.status(400).json(refusal(parts, 400, 'invalid_scope', `The scope ${unknown} does not exist.`).body);
    const code = opaque('d.');
    const device: DeviceRequest = {
      client: known.client,
      userCode: newUserCode(),
      scopes,
      offline: asksOffline((request.body ?? {}) as Record<string, unknown>),
      sub: null,
      decided: null,
      granted: [],
      endsAt: parts.now() + LIFE_SECONDS * 1000,
      intervalMs: INTERVAL_SECONDS * 1000,
      polledAt: 0,
    };
    devices.set(code, device);
    const seconds = parts.definition.dialect.text_numbers ? String(LIFE_SECONDS) : LIFE_SECONDS;
    return void response.json({
      device_code: code,
      user_code: device.userCode,
      verification_uri: `${origin}${page}`,
      verification_uri_complete: `${origin}${page}?user_code=${device.userCode}`,
      expires_in: seconds,
      interval: INTERVAL_SECONDS,
    });
  });

  const find = (userCode: string): { id: string; device: DeviceRequest } | null => {
    const wanted = userCode.replace(/[^A-Za-z]/g, '').toUpperCase();
    const found = [...devices].find(([, one]) => one.userCode.replace('-', '') === wanted && one.endsAt > parts.now() && one.decided === null);
    return found ? { id: found[0], device: found[1] } : null;
  };
  const html = (response: express.Response, body: string, status = 200) => void response.status(status).type('html').send(body);
  router.get(page, (request, response) => html(response, deviceCodePage(parts.definition, text(request.query.user_code), page)));
  router.post(page, form, (request, response) => {
    const found = find(text(request.body?.user_code));
    if (!found)
      return html(response, deviceCodePage(parts.definition, text(request.body?.user_code), page, 'No such code is waiting, or it has expired.'), 404);
    return html(response, signInPage(parts.definition, found.device.client, found.device.userCode, { action: `${page}/sign-in` }));
  });
  router.post(`${page}/sign-in`, form, (request, response) => {
    const found = find(text(request.body?.request));
    const account = ACCOUNTS.find((one) => one.sub === request.body?.account);
    if (!found) return html(response, stopPage(parts.definition, 'Too late', 'This code has expired.'), 400);
    const { device } = found;
    if (!account || request.body?.password !== STANDIN_PASSWORD)
      return html(
        response,
        signInPage(parts.definition, device.client, device.userCode, { problem: 'Account or password is wrong.', action: `${page}/sign-in` }),
        401,
      );
    device.sub = account.sub;
    return html(
      response,
      consentPage(parts.definition, device.client, device.userCode, { who: account.email, scopes: device.scopes, action: `${page}/decide` }),
    );
  });
  router.post(`${page}/decide`, form, (request, response) => {
    const found = find(text(request.body?.request));
    if (!found?.device.sub) return html(response, stopPage(parts.definition, 'Too late', 'This code has expired.'), 400);
    const ticked = [request.body?.scope ?? []].flat().map(String);
    found.device.decided = request.body?.decision === 'agree' ? 'agreed' : 'refused';
    found.device.granted = found.device.scopes.filter((scope) => ticked.includes(scope));
    return html(response, deviceDonePage(parts.definition, found.device.decided === 'agreed'));
  });
  return router;
}

/** RFC 8628 §3.5: what a poll gets before the decision, or the decision; null: it was consented. */
export function polled(parts: Pick<ServerParts, 'definition' | 'now'>, device: DeviceRequest | undefined, client: RegisteredClient): Answer | null {
  if (!device || device.client.id !== client.id) return refusal(parts, 400, 'invalid_grant', 'The device code is unknown or used up.');
  if (device.endsAt <= parts.now()) return refusal(parts, 400, 'expired_token', 'The device code has expired.');
  const tooSoon = parts.now() - device.polledAt < device.intervalMs - 50;
  device.polledAt = parts.now();
  if (tooSoon) {
    device.intervalMs += 5_000;
    return refusal(parts, 400, 'slow_down', 'Ask less often.');
  }
  if (device.decided === null) return refusal(parts, 400, 'authorization_pending', 'Nobody has decided yet.');
  return device.decided === 'refused' ? refusal(parts, 400, 'access_denied', 'The person refused.') : null;
}
