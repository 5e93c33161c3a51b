import { reasonInWords } from '../../core/oauth/wire.ts';
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

/** Reads who agreed, where the definition says how: id and label by JSON pointer (RFC 6901) from one answer. */
export async function readIdentity(ports: Pick<Ports, 'send'>, definition: ProviderDefinition, access: Secret): Promise<IdentityFound> {
  const identity = definition.identity;
  const url = identity?.endpoint ?? definition.server.userinfo_endpoint;
  if (!identity || !url) return { account: null, warning: null };
  const answer = await ports.send({
    method: 'GET',
    url,
    headers: { authorization: `Bearer ${access.reveal()}`, accept: 'application/json' },
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
  const [id, label] = [pointer(body, identity.id), pointer(body, identity.label)];
  if (id === null) return failed(`there is nothing at ${identity.id} in the answer`);
  return { account: { id, label: label ?? id }, warning: null };
}

function pointer(document: unknown, path: string): string | null {
  let at: unknown = document;
  for (const step of path.slice(1).split('/')) {
    if (typeof at !== 'object' || at === null) return null;
    at = (at as Record<string, unknown>)[step.replaceAll('~1', '/').replaceAll('~0', '~')];
  }
  return typeof at === 'string' || typeof at === 'number' ? String(at).slice(0, SHOWN_MOST) : null;
}
