import type { OwnCall, OwnConnection } from '../../api/own.ts';
import { mayRelayAtAll, permissionInWords, relayPermission } from '../../core/callers/permissions.ts';
import { fillCall } from '../../core/calls/call.ts';
import { maskedSaved } from '../../core/calls/secret-values.ts';
import { MASK } from '../../core/calls/stored-values.ts';
import { Fault } from '../../core/fault.ts';
import { belowBase, findKnown, relayBase, relayLine, savedCalls } from '../connections/index.ts';
import { connectionDefinition } from '../grants/index.ts';
import type { KnownCaller, PermittedConnection } from '../tokens/index.ts';
import type { CallerParts } from './parts.ts';

/** What a caller may use, told to itself: no names of other callers, no history, no evidence. */
export function listOwnConnections(s: Pick<CallerParts, 'settings'>, caller: KnownCaller): { items: OwnConnection[] } {
  return { items: [...caller.connections.values()].sort((a, b) => (a.name < b.name ? -1 : 1)).map((one) => view(s, one)) };
}

const view = (s: Pick<CallerParts, 'settings'>, one: PermittedConnection): OwnConnection => ({
  name: one.name,
  intent: one.intent as OwnConnection['intent'],
  shared: one.shared,
  consented: one.grantId !== null,
  environment: one.setUp.environment,
  scope: one.scope,
  says: one.permissions.map(permissionInWords).join('; or '),
  resource: one.mayFetch ? `${s.settings.publicUrl}/connections/${one.name}${one.shared ? '/people/{KEY}' : ''}` : null,
  relay_url: mayRelayAtAll(one.permissions) ? `${relayBase(s, one.name)}${one.shared ? '/people/{KEY}' : ''}` : null,
  apis: one.setUp.apis.map((api) => api.name),
});

/** Calls that someone saved with a connection of this caller. @throws {Fault} NOT_PERMITTED, for a connection of others and an unknown one alike */
export async function listOwnCalls(s: Pick<CallerParts, 'settings' | 'store'>, caller: KnownCaller, name: string): Promise<{ items: OwnCall[] }> {
  const own = caller.connections.get(name);
  if (!own) throw new Fault('NOT_PERMITTED', { detail: `${caller.name} has no connection called ${name.slice(0, 63)}.` });
  const one = await findKnown(s, name);
  const { definition, record } = await connectionDefinition(s, one);
  const values = { ...record.placeholders, ...one.placeholders };
  // Keys that operators put into calls are not for every caller: each has its own.
  const saved = (await savedCalls(s, own.id)).map((kept) => maskedSaved(kept, MASK));
  return {
    items: saved.map((kept) => {
      const { call } = fillCall(kept.call, kept.parameters, values);
      try {
        const path = belowBase(definition, call).call.path.split('?', 1)[0] ?? '';
        // What is filled in at each call stays readable.
        const curl = relayLine(s, name, definition, call).replace(/%7B([A-Za-z][\w.-]*)%7D/g, '{$1}');
        return { ...kept, permitted: relayPermission(own.permissions, call.method, path) !== null, curl };
      } catch (error) {
        if (error instanceof Fault && error.code === 'HOST_NOT_LISTED') return { ...kept, permitted: false, curl: null }; // the definition changed since
        throw error;
      }
    }),
  };
}
