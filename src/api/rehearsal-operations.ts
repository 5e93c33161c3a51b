import { list, type Operation } from './operation.ts';
import { Rehearsal, RehearsalShown, StartRehearsal } from './rehearsals.ts';

/** Rehearsals: what would be seen if something went wrong. */
export const rehearsalOperations = {
  listRehearsals: { method: 'GET', path: '/api/v1/rehearsals', access: 'operator', says: 'List rehearsals, newest first', answer: list(Rehearsal) },
  startRehearsal: {
    method: 'POST',
    path: '/api/v1/rehearsals',
    access: 'operator',
    says: 'Play a scenario with these definitions and settings on simulated providers, in compressed time. Nothing real is called, and no secret is used',
    body: StartRehearsal,
    answer: Rehearsal,
  },
  showRehearsal: {
    method: 'GET',
    path: '/api/v1/rehearsals/{rehearsal}',
    access: 'operator',
    says: 'Show a rehearsal, its progress, and its report',
    answer: RehearsalShown,
  },
  cancelRehearsal: {
    method: 'POST',
    path: '/api/v1/rehearsals/{rehearsal}/cancel',
    access: 'operator',
    says: 'Cancel a rehearsal that is running',
    answer: RehearsalShown,
  },
} as const satisfies Record<string, Operation>;
