/** What a caller may do with a connection. */
export const USES = ['any', 'token', 'relay'] as const;
type Use = (typeof USES)[number];
/** What a caller may do with the people of a shared connection: nothing, see them and their events, or invite and disconnect them as well. */
export const PEOPLE_RIGHTS = ['none', 'read', 'manage'] as const;
type PeopleRight = (typeof PEOPLE_RIGHTS)[number];
/** Methods that pass the relay. TRACE echoes and CONNECT tunnels: never. */
export const RELAY_METHODS = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'] as const;

export interface Permission {
  use: Use;
  /** Methods that pass the relay; none named: all. */
  methods: readonly string[];
  /** Patterns of paths that pass the relay; none named: all. `*` is one segment, `**` at the end is everything below. */
  paths: readonly string[];
  /** The most of each quota window that this caller may use, in percent; null: all of it. */
  share: number | null;
  people: PeopleRight;
}

export const PATH_PATTERN = /^\/(?:[A-Za-z0-9._~!$&'()+,;=:@%-]+|\*)?(?:\/(?:[A-Za-z0-9._~!$&'()+,;=:@%-]+|\*))*(?:\/\*\*)?\/?$|^\/\*\*$/;

const compiled = new Map<string, RegExp>();
/** A pattern as an expression for the path of a request, without its query. A path that is encoded in another way than the pattern does not fit. */
export function pathFits(pattern: string, path: string): boolean {
  let expression = compiled.get(pattern);
  if (!expression) {
    const below = pattern.endsWith('/**');
    const source = (below ? pattern.slice(0, -3) : pattern)
      .split('/')
      .map((segment) => (segment === '*' ? '[^/]+' : segment.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')))
      .join('/');
    expression = new RegExp(`^${source}${below ? '(?:/.*)?' : ''}$`);
    if (compiled.size > 10_000) compiled.clear();
    compiled.set(pattern, expression);
  }
  return expression.test(path);
}

export const mayFetch = (permissions: readonly Permission[]): boolean => permissions.some((one) => one.use !== 'relay');

/** Seeing people, or managing them, is a right of its own: the narrowest permission to call an API does not bring it. */
export const mayWithPeople = (permissions: readonly Pick<Permission, 'people'>[], right: 'read' | 'manage'): boolean =>
  permissions.some((one) => one.people === 'manage' || one.people === right);

export const mayRelayAtAll = (permissions: readonly Permission[]): boolean => permissions.some((one) => one.use !== 'token');

/** Headers by which many APIs take another method or path than the request line's. */
const OVERRIDES = new Set([
  'x-http-method-override',
  'x-http-method',
  'x-method-override',
  'x-original-method',
  'x-original-url',
  'x-rewrite-url',
  'x-override-url',
  'x-original-uri',
  'x-forwarded-uri',
  'x-forwarded-method',
  'x-original-path',
  'x-http-path-override',
  'x-path-override',
  'x-http-verb',
  'x-http-verb-override',
  'x-override-method',
  'x-override-path',
  'x-rewrite-uri',
  'method-override',
  'http-method-override',
  'original-url',
  'original-uri',
]);
/** The first letters of these names. */
const MAY_BE_OVERRIDE = /^[xmho]/i;
/** Parameters by which many APIs take another method: `_method`, `.method`, `_method[]`, `_httpmethod`, and the headers' own names. */
const OVERRIDING_PARAMETER = /^(?:[._-]+(?:http[._-]?)?method)$/;
/**
 * True for a request that asks, beside its request line, for another method or path. Names are compared decoded, as the API will read them,
 * and with `&` and `;` between them. Bodies are not looked into.
 */
export const overrides = (rawHeaders: readonly string[], query: string): boolean =>
  headerOverrides(rawHeaders) || (MAY_OVERRIDE.test(query) && queryOverrides(query));

/** A query without any of these holds no such name, however it is decoded: each name has `method` or `original`, or begins with `x`. */
const MAY_OVERRIDE = /[%+]|method|original|x[-_]/i;

function headerOverrides(raw: readonly string[]): boolean {
  for (let at = 0; at < raw.length; at += 2) {
    const name = raw[at] as string;
    if (MAY_BE_OVERRIDE.test(name) && OVERRIDES.has(name.toLowerCase().replaceAll('_', '-'))) return true;
  }
  return false;
}

const queryOverrides = (query: string): boolean =>
  query
    .replace(/^\?/, '')
    .split(/[&;]/)
    .some((pair) => {
      const name = decodedTwice(pair.split('=', 1)[0] ?? '')
        .toLowerCase()
        .trim()
        .replace(/\[.*$/s, '');
      return OVERRIDING_PARAMETER.test(name) || OVERRIDES.has(name.replaceAll('_', '-'));
    });

const decodedTwice = (text: string): string => {
  let decoded = text.replaceAll('+', ' ');
  for (let times = 0; times < 2; times += 1)
    try {
      decoded = decodeURIComponent(decoded);
    } catch {
      return decoded; // broken encoding: compared as far as it can be read
    }
  return decoded;
};

/**
 * The permission under which this call may pass, or null. Several may be given, by name and by label: any one is enough. `overriding`:
 * what the request line shows is not all; then only a permission without limits of method and path will do.
 */
export const relayPermission = (permissions: readonly Permission[], method: string, path: string, overriding = false): Permission | null =>
  permissions.find(
    (one) =>
      one.use !== 'token' &&
      !(overriding && one.methods.length + one.paths.length > 0) &&
      (one.methods.length === 0 || one.methods.includes(method)) &&
      (one.paths.length === 0 || one.paths.some((pattern) => pathFits(pattern, path))),
  ) ?? null;

/** One permission in words. */
export function permissionInWords(one: Permission): string {
  const what = one.use === 'token' ? 'tokens only' : one.use === 'relay' ? 'relay only' : 'tokens and relay';
  const methods = one.methods.length > 0 && one.use !== 'token' ? `, ${one.methods.join(' ')}` : '';
  const paths = one.paths.length > 0 && one.use !== 'token' ? `, ${one.paths.join(' ')}` : '';
  const people = one.people === 'none' ? '' : one.people === 'read' ? ', sees people' : ', manages people';
  return `${what}${methods}${paths}${one.share === null ? '' : `, at most ${one.share} % of the quota`}${people}`;
}
