import { ASSERTION_TYPE } from '../../core/callers/assertion.ts';
import { CALLER_ID_PREFIX, isCallerId } from '../../core/identifiers.ts';
import {
  type Assertions,
  type CallerCheck,
  type CallerDirectory,
  CHALLENGE,
  credentials,
  type Form,
  type KnownCaller,
  type OAuthRequest,
  Refusal,
} from '../tokens/index.ts';

/** Grant types of tools that signed in here. */
export const BY_TOOLS = ['authorization_code', 'refresh_token'];

/** The caller, and its key; null: another way than a key. */
export interface Authenticated {
  caller: KnownCaller;
  keyId: string | null;
}
export interface Authentication {
  /** Asks where it must. @throws {Refusal} */
  ask(request: OAuthRequest, form: Form): Promise<Authenticated>;
  /** The same from memory, by id and key alone; null: ask. @throws {Refusal} for what is no id and key */
  ready(authorization: string | undefined, form: Form): Authenticated | null;
}

const BASIC = /^Basic\s/i;

/** Who asks for a token: by id and key, by a signed assertion (RFC 7523), by a certificate (RFC 8705), or a tool that keeps no secret. */
export function authentication(parts: { callers: CallerDirectory; check: CallerCheck; assertions: Assertions }): Authentication {
  const { callers, check, assertions } = parts;
  return {
    ready(authorization, form) {
      if (authorization !== undefined && BASIC.test(authorization) && !form.has('client_secret') && !form.has('client_id'))
        return check.readyHeader(authorization);
      const { id, key } = credentials(authorization, form);
      return key === null ? null : check.ready(id, key);
    },
    async ask(request, form) {
      const assertion = form.get('client_assertion');
      if (assertion !== undefined) {
        if (request.authorization !== undefined || form.has('client_secret'))
          throw new Refusal(400, 'invalid_request', 'Authenticate once: with client_assertion, or with id and key.');
        if (form.get('client_assertion_type') !== ASSERTION_TYPE) throw new Refusal(400, 'invalid_request', `client_assertion_type must be ${ASSERTION_TYPE}.`);
        return withoutKey(await assertions.ofJwt(assertion, form.get('client_id') ?? null));
      }
      const certificate = certificateAlone(request, form);
      if (certificate) return withoutKey(await assertions.ofCertificate(certificate, form.get('client_id') ?? null));
      const { id, key } = credentials(request.authorization, form);
      if (key === null) {
        // RFC 6749 §2.3: a client that keeps no secret names itself; its code_verifier or refresh token is what verifies it.
        const caller = isCallerId(id) ? await callers.find(id) : null;
        if (caller?.keepsNoSecret && BY_TOOLS.includes(form.get('grant_type') ?? (form.has('token') ? 'refresh_token' : ''))) return { caller, keyId: null };
        throw new Refusal(401, 'invalid_client', 'Send the caller\u2019s id and key, as Basic or as client_id and client_secret.', { headers: CHALLENGE });
      }
      const checked = await check(id, key, request.address);
      if (!('wrong' in checked)) return checked;
      throw wrongKey(id, checked);
    },
  };
}

/** The client's certificate, where nothing else authenticates the request. */
const certificateAlone = ({ certificate, authorization }: OAuthRequest, form: Form) =>
  authorization === undefined && !form.has('client_secret') && !BY_TOOLS.includes(form.get('grant_type') ?? '') ? certificate : undefined;

function withoutKey(found: { caller: KnownCaller } | { wrong: string }): Authenticated {
  if ('wrong' in found) throw new Refusal(401, 'invalid_client', `The caller is not authenticated: ${found.wrong}`, { headers: CHALLENGE });
  return { caller: found.caller, keyId: null };
}

function wrongKey(id: string, checked: { wrong: 'key' } | { wrong: 'throttled'; waitMs: number }): Refusal {
  if (checked.wrong === 'throttled')
    return new Refusal(401, 'invalid_client', 'Too many wrong keys from this network. Wait, then send the right one.', {
      headers: { ...CHALLENGE, 'retry-after': String(Math.ceil(checked.waitMs / 1000)) },
    });
  const hint = id.startsWith(CALLER_ID_PREFIX) ? '' : ` Caller ids of this service start with ${CALLER_ID_PREFIX}: perhaps a provider\u2019s id was pasted.`;
  return new Refusal(401, 'invalid_client', `The caller id or its key is wrong.${hint}`, { headers: CHALLENGE });
}
