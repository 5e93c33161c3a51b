import { Fault } from '../fault.ts';
import { type Json, record, text } from '../json.ts';
import { type Draft, emptyDraft, type Named, put, readyLine } from './draft.ts';
import { guessedScope } from './from-metadata.ts';
import { bodyExampleOf, type FoundParameter, parametersOf } from './openapi-parameters.ts';
import { ScopeName } from './web-address.ts';

const METHODS = ['get', 'head', 'post', 'put', 'patch', 'delete'];
const MAX_OPERATIONS = 2000;

export interface FromOpenApi {
  draft: Draft;
  /** An openIdConnect scheme names its metadata: it is to be read too. */
  metadataAddress: string | null;
}

/**
 * A draft from an OpenAPI 3.x document: its security schemes (oauth2, openIdConnect, http, apiKey), its first server as the API, and
 * its operations with the scopes each needs; alternatives are kept.
 * @throws {Fault} OPENAPI_WRONG
 */
export function fromOpenApi(document: unknown, source: string, named: Named): FromOpenApi {
  const all = record(document);
  const version = text(all.openapi);
  if (!version?.startsWith('3.'))
    throw new Fault('OPENAPI_WRONG', {
      detail: text(all.swagger) ? `It is of version ${text(all.swagger)}.` : 'It has no member `openapi: 3.x`.',
      remedy: text(all.swagger) ? 'Ask the provider for OpenAPI 3, or convert it.' : 'Give an OpenAPI 3.x document, as JSON or YAML.',
    });
  const draft = emptyDraft(named.name, named.title, named.typed);
  const schemes = Object.entries(record(record(all.components).securitySchemes)).map(([name, scheme]) => ({ name, scheme: record(scheme) }));
  const where = (name: string) => `${source}, security scheme ${name}`;
  let metadataAddress: string | null = null;
  const catalogue = new Map<string, string>();
  const oauthNames = new Set<string>();
  const grants = new Set<string>();
  const api: Json = { name: 'api', title: (text(record(all.info).title) ?? 'API').slice(0, 80) };
  for (const { name, scheme } of schemes) {
    const type = text(scheme.type);
    if (type === 'oauth2') {
      oauthNames.add(name);
      const flows = record(scheme.flows);
      const code = record(flows.authorizationCode);
      const own = record(flows.clientCredentials);
      for (const flow of [code, own, record(flows.implicit), record(flows.password)])
        for (const [scope, says] of Object.entries(record(flow.scopes))) catalogue.set(scope, text(says) ?? scope);
      if (flows.authorizationCode) {
        put(draft, 'server.authorization_endpoint', text(code.authorizationUrl), where(name));
        put(draft, 'server.token_endpoint', text(code.tokenUrl), where(name));
        grants.add('authorization_code').add('refresh_token');
      }
      if (flows.clientCredentials) {
        if (!flows.authorizationCode) put(draft, 'server.token_endpoint', text(own.tokenUrl), where(name));
        grants.add('client_credentials');
      }
      if (!flows.authorizationCode && !flows.clientCredentials)
        draft.warnings.push(`The scheme ${name} offers only flows that RFC 9700 forbids (implicit, password).`);
    } else if (type === 'openIdConnect') {
      oauthNames.add(name);
      metadataAddress = text(scheme.openIdConnectUrl) ?? null;
    } else if (type === 'apiKey') {
      if (text(scheme.in) === 'header' && text(scheme.name))
        draft.warnings.push(`The scheme ${name} is a static key in the header ${text(scheme.name)}; static keys are no grant of OAuth.`);
    } else if (type === 'http') {
      const word = text(scheme.scheme) ?? 'bearer';
      if (word.toLowerCase() !== 'bearer') draft.warnings.push(`The scheme ${name} is HTTP ${word}.`);
    }
  }
  if (grants.size > 0) put(draft, 'server.grant_types_supported', [...grants], `${source}, the flows of its schemes`);
  put(
    draft,
    'scopes',
    [...catalogue]
      .filter(([name]) => ScopeName.safeParse(name).success)
      .slice(0, 500)
      .map(([name, says]) => guessedScope(name, says)),
    `${source}; what each may do is guessed from its name`,
  );

  const server = record(Array.isArray(all.servers) ? all.servers[0] : undefined);
  const { url, placeholders } = serverAddress(server);
  if (placeholders.length > 0) put(draft, 'placeholders', placeholders, `${source}, the variables of its first server`);
  const operations = operationsOf(all, oauthNames);
  if (operations.length >= MAX_OPERATIONS) draft.warnings.push(`Only the first ${MAX_OPERATIONS} operations were taken.`);
  if (url) {
    const probe = operations.find((one) => one.method === 'GET' && !one.path.includes('{'));
    if (probe) draft.warnings.push(`The call that verifies a connection was chosen by us: GET ${probe.path}. Choose another if it needs parameters.`);
    put(
      draft,
      'apis',
      [{ ...api, base_url: url, ...(probe ? { probes: [{ path: probe.path }] } : {}), operations }],
      `${source}, its first server and its paths`,
    );
  } else draft.warnings.push('It names no server with an https address: give the address of the API.');
  if (metadataAddress !== null && !/^https?:\/\//.test(metadataAddress)) metadataAddress = null;
  return { draft: readyLine(draft), metadataAddress };
}

/** The first server with its variables as placeholders (OpenAPI 3.1 §4.8.5, §4.8.6). */
function serverAddress(server: Json): { url: string | null; placeholders: Json[] } {
  const raw = text(server.url);
  if (!raw || !/^https?:\/\//.test(raw)) return { url: null, placeholders: [] };
  const placeholders = Object.entries(record(server.variables)).map(([name, variable]) => {
    const one = record(variable);
    const choices = (Array.isArray(one.enum) ? one.enum : []).map(String);
    const safe = name.toLowerCase().replace(/[^a-z0-9_]/g, '_');
    return {
      raw: name,
      name: safe,
      title: name,
      says: (text(one.description) ?? '').slice(0, 300),
      ...(choices.length > 0
        ? { choices: choices.map((value) => ({ value, title: value })) }
        : { pattern: '[A-Za-z0-9._-]{1,100}', ...(one.default ? { example: String(one.default) } : {}) }),
    };
  });
  const url = placeholders.reduce((at, { raw: name, name: safe }) => at.replaceAll(`{${name}}`, `{${safe}}`), raw).replace(/\/$/, '');
  return { url, placeholders: placeholders.map(({ raw: _raw, ...rest }) => rest) };
}

interface FoundOperation {
  id: string;
  method: string;
  path: string;
  says: string;
  needs: string[][];
  parameters: FoundParameter[];
  body_example?: string;
}

function operationsOf(all: Json, oauthNames: Set<string>): FoundOperation[] {
  const found: FoundOperation[] = [];
  const taken = new Set<string>();
  for (const [path, item] of Object.entries(record(all.paths)))
    for (const method of METHODS) {
      const operation = record(record(item)[method]);
      if (Object.keys(operation).length === 0 || found.length >= MAX_OPERATIONS || !/^\/[^\s]*$/.test(path) || path.length > 500) continue;
      const wished =
        (text(operation.operationId) ?? `${method}${path}`)
          .replace(/[^A-Za-z0-9._-]+/g, '-')
          .replace(/^[^A-Za-z0-9]+/, '')
          .slice(0, 70) || method;
      let id = wished;
      for (let n = 2; taken.has(id); n += 1) id = `${wished}-${n}`;
      taken.add(id);
      // `security` of the operation replaces that of the document; an empty alternative {} means: none needed (OpenAPI 3.1 §4.8.30).
      const security = Array.isArray(operation.security) ? operation.security : Array.isArray(all.security) ? all.security : [];
      const alternatives = security
        .map(record)
        .map((requirement) =>
          Object.entries(requirement).flatMap(([scheme, scopes]) => (oauthNames.has(scheme) && Array.isArray(scopes) ? scopes.map(String) : [])),
        );
      const body = bodyExampleOf(all, operation);
      const free = alternatives.some((one) => one.length === 0);
      found.push({
        id,
        method: method.toUpperCase(),
        path,
        says: (text(operation.summary) ?? text(operation.description) ?? '').split('\n')[0]?.slice(0, 200) ?? '',
        parameters: parametersOf(all, record(item), operation),
        ...(body === undefined ? {} : { body_example: body }),
        needs: free ? [] : alternatives.map((one) => one.filter((scope) => ScopeName.safeParse(scope).success)),
      });
    }
  return found;
}
