import type { Operation, ParamsOf } from './operation.ts';
import { paramNames } from './operation.ts';
import { type OperationName, type Operations, operations } from './operations.ts';
import { PATH_REFERENCES, type Reference, type ReferenceKind, referencePlaces, referencesIn } from './references.ts';

type ParamName = { [N in OperationName]: keyof ParamsOf<Operations[N]['path']> & string }[OperationName];
const OF_PATH: Readonly<Record<ParamName, ReferenceKind>> = PATH_REFERENCES;
const kindOf = (param: string): ReferenceKind => OF_PATH[param as ParamName];

/** A request after it was read by the schemas of its operation. */
export interface ReadRequest {
  params: Record<string, string>;
  query: unknown;
  body: unknown;
}

/** Every object that a request names, wherever it stands: path, query or body. */
export function referencesOf(name: OperationName, { params, query, body }: ReadRequest): Reference[] {
  const operation: Operation = operations[name];
  return [
    ...paramNames(operation.path).map((param) => ({ to: kindOf(param), names: [params[param] ?? ''], place: `path.${param}` })),
    ...referencesIn(operation.query, query, 'query'),
    ...referencesIn(operation.body, body, 'body'),
  ];
}

/** Every place of an operation that takes a reference. */
export function referencePlacesOf(name: OperationName): Reference[] {
  const operation: Operation = operations[name];
  return [
    ...paramNames(operation.path).map((param) => ({ to: kindOf(param), names: [], place: `path.${param}` })),
    ...referencePlaces(operation.query, 'query'),
    ...referencePlaces(operation.body, 'body'),
  ];
}
