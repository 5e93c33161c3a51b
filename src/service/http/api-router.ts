import express, { type Request, type RequestHandler, type Response, Router } from 'express';
import { z } from 'zod';
import { maskedAnswer } from '../../api/masking.ts';
import { type Access, type Operation, paramNames } from '../../api/operation.ts';
import { referencesOf } from '../../api/operation-references.ts';
import { type OperationName, operationNames, operations } from '../../api/operations.ts';
import { ruleOf } from '../../api/role-rules.ts';
import type { RoleRule } from '../../api/roles.ts';
import { Fault } from '../../core/fault.ts';
import { type Consents, consentCookieName } from '../consent/index.ts';
import { withinRequest } from '../context.ts';
import type { Actor, Asked, SignedInOperator } from '../operation-call.ts';
import { checkLimits, checkRole, type Operators } from '../operators/index.ts';
import { requestIdOf } from '../problems.ts';
import type { KnownCaller, WhoCalls } from '../tokens/index.ts';
import { type SignInRequests, signInCookieName } from '../tool-sign-ins/index.ts';
import type { Handlers } from './handlers.ts';
import type { HttpParts } from './parts.ts';
import type { Sessions } from './sessions.ts';

const BODY_LIMIT = '256kb';
const NOBODY = { operator: null, caller: null };
const Params = z.record(z.string(), z.string().regex(/^[A-Za-z0-9._@-]{1,80}$/));

/** Those who know who asks. */
export interface Admission {
  sessions: Sessions;
  consents: Consents;
  signInRequests: SignInRequests;
  whoCalls: WhoCalls;
  operators: Pick<Operators, 'needConfirmed'>;
  store: Pick<HttpParts['store'], 'limits' | 'notices'>;
}

/** Every operation of the contract as a route: parse, check who asks, call its handler, answer. */
export function apiRouter(handlers: Handlers, admission: Admission): Router {
  const router = Router();
  const mount = {
    GET: (path: string, steps: RequestHandler[]) => router.get(path, steps),
    POST: (path: string, steps: RequestHandler[]) => router.post(path, steps),
    PATCH: (path: string, steps: RequestHandler[]) => router.patch(path, steps),
    DELETE: (path: string, steps: RequestHandler[]) => router.delete(path, steps),
  };
  for (const name of operationNames) {
    const operation: Operation = operations[name];
    const json = express.json({ limit: operation.bodyLimit ?? BODY_LIMIT, strict: true, type: 'application/json' });
    const path = operation.path.replace(/\{(\w+)\}/g, ':$1');
    const ofBody = operation.body ? [operation.bodyOptional ? jsonOrNothing : needsJson, json] : [];
    mount[operation.method](path, [...ofBody, route(name, handlers, admission)]);
  }
  router.use('/api', (_request, _response, next) =>
    next(new Fault('NOT_FOUND', { detail: 'No operation has this address and method.', remedy: 'Compare with the list of operations in the documentation.' })),
  );
  return router;
}

const jsonOrNothing: RequestHandler = (request, response, next) =>
  request.headers['content-length'] === undefined || request.headers['content-length'] === '0' ? next() : needsJson(request, response, next);
const needsJson: RequestHandler = (request, _response, next) => next(request.is('application/json') ? undefined : new Fault('CONTENT_TYPE_WRONG'));

/** What was read of a request: each part by the operation's own schema, and who asks by its access rule. */
interface Read {
  params: Record<string, string>;
  query: unknown;
  body: unknown;
  actor: Actor<'anyone'> & { operator: SignedInOperator | null; caller: KnownCaller | null };
}

/** True for what was read for this operation: all parameters of its path are there, and whoever its access rule wants. */
function isFor<N extends OperationName>(name: N, read: Read): read is Read & Asked<N> {
  const { path, access }: Operation = operations[name];
  const isAdmitted = access === 'caller' ? read.actor.caller !== null : access === 'anyone' || access === 'consent_or_operator' || read.actor.operator !== null;
  return isAdmitted && paramNames(path).every((key) => Object.hasOwn(read.params, key));
}

function route<N extends OperationName>(name: N, handlers: Handlers, admission: Admission): RequestHandler {
  const operation: Operation = operations[name];
  const { sessions } = admission;
  return async (request, response) => {
    const params = parse(Params, request.params, 'address');
    const who = await admit(operation.access, request, params, admission);
    const rule = roleFor(name, who.operator);
    if (operation.method !== 'GET') sessions.checkOrigin(request);
    const query = operation.query ? parse(operation.query, request.query, 'query') : undefined;
    const body = operation.body ? parse(operation.body, request.body ?? (operation.bodyOptional ? {} : undefined), '') : undefined;
    if (rule && who.operator) {
      await checkLimits(admission, who.operator, rule, { references: referencesOf(name, { params, query, body }), body });
      if (rule.confirms) admission.operators.needConfirmed(who.operator);
    }
    const read: Read = {
      params,
      query,
      body,
      actor: { ...who, address: request.ip ?? '', device: sessions.device(request), agent: request.get('user-agent') ?? null },
    };
    if (!isFor(name, read)) throw new Fault('INTERNAL', { detail: `The request does not fit the operation ${name}.` });
    const { setSession, ...answer } = await withinRequest({ requestId: requestIdOf(response), address: read.actor.address }, () => handlers[name](read));
    if (setSession === 'end') sessions.take(response);
    else if (setSession) sessions.give(response, setSession);
    send(response, who.operator && !operation.unmasked ? (maskedAnswer(operation.answer, answer) as object) : answer);
  };
}

/** By the table of roles, before anything of the request is read. A rule that is missing refuses. @throws {Fault} ROLE_TOO_LOW */
function roleFor(name: OperationName, operator: SignedInOperator | null): RoleRule | null {
  if (operator === null) return null; // a caller, or whoever holds a consent's cookie
  const rule = ruleOf(name);
  if (!rule) throw new Fault('INTERNAL', { detail: `No role is stated for ${name}.` });
  checkRole(operator, rule);
  return rule;
}

async function admit(
  access: Access,
  request: Request,
  params: Record<string, string>,
  { sessions, consents, signInRequests, whoCalls }: Admission,
): Promise<Pick<Read['actor'], 'operator' | 'caller'>> {
  if (access === 'anyone') return NOBODY;
  if (access === 'caller') return { ...NOBODY, caller: (await whoCalls(request.headers.authorization, request.ip ?? '')).caller };
  const operator = await sessions.operator(request);
  if (operator && access !== 'operator_at_sign_in') return { operator, caller: null };
  if (operator) {
    // A code goes out with this answer: only the browser that the tool itself sent here may give it.
    const id = params.request ?? '';
    if (operator.kind === 'browser' && z.uuid().safeParse(id).success && (await signInRequests.holdsCookie(id, sessions.cookie(request, signInCookieName(id)))))
      return { operator, caller: null };
    throw new Fault('SIGN_IN_REQUEST_EXPIRED', { detail: 'This browser did not come from the tool.' });
  }
  const consent = params.consent;
  if (
    access === 'consent_or_operator' &&
    consent &&
    z.uuid().safeParse(consent).success &&
    (await consents.holdsCookie(consent, sessions.cookie(request, consentCookieName(consent))))
  )
    return NOBODY;
  throw new Fault('SIGN_IN_NEEDED');
}

/** @throws {Fault} INPUT_INVALID with each place that is wrong. */
function parse<T>(shape: z.ZodType<T>, input: unknown, root: string): T {
  const read = shape.safeParse(input);
  if (read.success) return read.data;
  const places = read.error.issues.map((issue) => ({
    path:
      [root, ...issue.path, ...(issue.code === 'unrecognized_keys' ? issue.keys : [])]
        .filter((part) => part !== '')
        .map(String)
        .join('.') || '(body)',
    why: issue.message,
  }));
  throw new Fault('INPUT_INVALID', { places });
}

function send(response: Response, answer: object): void {
  response.setHeader('cache-control', 'no-store');
  response.json(answer);
}
