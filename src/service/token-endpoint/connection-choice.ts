import { readPersonTarget } from '../../core/people/person-key.ts';
import { type Form, type KnownCaller, type OAuthRequest, type PermittedConnection, Refusal } from '../tokens/index.ts';

export interface TokenRequest extends OAuthRequest {
  /** The connection that the path named, or null. */
  connection: string | null;
  /** The caller's own path that was used, or null: then only that caller is answered. */
  ownPath: string | null;
}

/** What names the connection, however it is named once; null: nothing does. */
export function nameIn(request: TokenRequest, form: Form, prefix: string): string | null {
  const named = form.get('resource') || form.get('audience');
  const ways = [request.connection, form.get('resource'), form.get('audience'), form.get('scope')].filter(
    (one) => one !== null && one !== undefined && one !== '',
  );
  if (ways.length > 1) return null; // refused where it is chosen
  if (request.connection !== null) return request.connection;
  if (named) return named.startsWith(prefix) ? named.slice(prefix.length) : null;
  return /^connection:(\S+)$/.exec(form.get('scope')?.trim() ?? '')?.[1] ?? null;
}

export const personNamed = (name: string | null) => (name?.includes('/people/') ? readPersonTarget(name) : null);

/** Unknown and forbidden answer alike: a caller learns nothing of connections that are not its own. */
export function chooseConnection(caller: KnownCaller, request: TokenRequest, form: Form, prefix: string): PermittedConnection {
  const [resource, audience, scope] = [form.get('resource'), form.get('audience'), form.get('scope')];
  const ways = [request.connection, resource, audience, scope].filter((one) => one !== null && one !== undefined && one !== '').length;
  if (ways > 1) throw new Refusal(400, 'invalid_request', 'Name the connection once: by the path, by resource, by audience or by scope.');
  const unknown = (error: 'invalid_target' | 'invalid_scope', form: string) =>
    new Refusal(400, error, `There is no such connection for this caller. Name it as ${form}.`);
  if (request.connection !== null) {
    const byPath = caller.connections.get(request.connection);
    if (!byPath) throw unknown('invalid_target', '/oauth/token/NAME');
    return byPath;
  }
  if (scope) {
    const name = /^connection:(\S+)$/.exec(scope.trim())?.[1];
    const byScope = name === undefined ? undefined : caller.connections.get(name);
    if (name === undefined)
      throw new Refusal(
        400,
        'invalid_scope',
        'A connection has the scopes that its person granted: leave scope empty, or name the connection as connection:NAME.',
      );
    if (!byScope) throw unknown('invalid_scope', 'scope=connection:NAME');
    return byScope;
  }
  const named = resource || audience;
  if (named) {
    const connection = named.startsWith(prefix) ? caller.connections.get(named.slice(prefix.length)) : undefined;
    if (!connection) throw unknown('invalid_target', `resource=${prefix}NAME`);
    return connection;
  }
  const [only, ...more] = [...caller.connections.values()].slice(0, 2);
  if (only && more.length === 0) return only;
  throw new Refusal(
    400,
    'invalid_target',
    only ? `This caller has several connections: name one by resource=${prefix}NAME.` : 'This caller has no connection yet.',
  );
}

/** @throws {Refusal} */
export function connectionNamed(caller: KnownCaller, name: string): PermittedConnection {
  const found = caller.connections.get(name);
  if (!found) throw new Refusal(400, 'invalid_grant', 'There is no such connection for this caller. Name it as refresh_token=connection:NAME.');
  return found;
}
