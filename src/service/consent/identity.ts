import { at, type FreshTokens } from '../../core/oauth/token-answer.ts';
import { reasonInWords } from '../../core/oauth/wire.ts';
import { callHeaders } from '../../core/provider/api.ts';
import type { ProviderDefinition } from '../../core/provider/definition.ts';
import type { Secret } from '../../core/secret.ts';
import type { Ports } from '../ports.ts';

export interface IdentityFound {
  account: { id: string; label: string } | null;
  warning: string | null;
}

const DEADLINE_MS = 15_000;
const LIMIT_BYTES = 64 * 1024;
const SHOWN_MOST = 300;

/** Reads who agreed, where the definition says how: from the token answer, or id and label by JSON pointer from one call. */
export async function readIdentity(
  ports: Pick<Ports, 'send'>,
  definition: ProviderDefinition,
  tokens: Pick<FreshTokens, 'access' | 'account'>,
): Promise<IdentityFound> {
  if (tokens.account) return { account: { id: tokens.account.id.slice(0, SHOWN_MOST), label: tokens.account.label.slice(0, SHOWN_MOST) }, warning: null };
  const identity = definition.identity;
  const url = identity?.endpoint ?? definition.server.userinfo_endpoint;
  if (!identity || !url) return { account: null, warning: null };
  const answer = await ports.send({
    method: 'GET',
    url,
    headers: identityHeaders(definition, url, tokens.access),
    deadlineMs: DEADLINE_MS,
    limitBytes: LIMIT_BYTES,
  });
  const failed = (why: string): IdentityFound => ({ account: null, warning: `Who agreed could not be read: ${why}.` });
  if (answer.kind !== 'answer') return failed(reasonInWords(answer.reason));
  if (answer.status !== 200) return failed(`the provider answered ${answer.status}`);
  let body: unknown;
  try {
    body = JSON.parse(answer.body);
  } catch {
    return failed('the answer is not JSON');
  }
  const text = (pointer: string): string | null => {
    const value = at(body, pointer);
    return typeof value === 'string' || typeof value === 'number' ? String(value).slice(0, SHOWN_MOST) : null;
  };
  const [id, label] = [text(identity.id), text(identity.label)];
  if (id === null) return failed(`there is nothing at ${identity.id} in the answer`);
  return { account: { id, label: label ?? id }, warning: null };
}

/** An endpoint below an API is called as that API wants it; one of the authorization server as RFC 6750 says. */
function identityHeaders(definition: ProviderDefinition, url: string, access: Secret): Record<string, string> {
  const api = definition.apis.find((one) => url.startsWith(`${one.base_url.replace(/\/$/, '')}/`));
  return api ? callHeaders(api, access.reveal()) : { authorization: `Bearer ${access.reveal()}`, accept: 'application/json' };
}
