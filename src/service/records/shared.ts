import { Fault } from '../../core/fault.ts';

/** @throws {Fault} INPUT_INVALID: what brings tokens goes to one person, never to the shared connection itself */
export function refuseShared({ name, shared }: { name: string; shared: boolean }): void {
  if (shared)
    throw new Fault('INPUT_INVALID', {
      detail: `${name} is shared: each person consents for themselves.`,
      remedy: 'Invite a person: People > Invite, or `rk invitation add`.',
    });
}
