import { type Api, fitsOperation } from '../provider/api.ts';

/** The scopes of which one is needed for a call, where the definition knows its operation. */
export function needsOf(api: Api, method: string, url: string): readonly string[] {
  const path = url.slice(api.base_url.replace(/\/$/, '').length).split('?')[0] ?? '';
  const operation = api.operations.find((one) => one.method === method && fitsOperation(one.path, path));
  return operation?.needs.flat() ?? api.probes.find((one) => one.method === method && one.path.split('?')[0] === path)?.needs ?? [];
}
