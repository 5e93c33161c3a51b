import { Done, list, type Operation } from './operation.ts';
import { AddCalendar, AddedCalendar, Calendar, UpcomingListed, UpcomingQuery } from './upcoming.ts';

/** What will stop if nobody acts, and the private addresses at which calendars read it. */
export const upcomingOperations = {
  listUpcoming: {
    method: 'GET',
    path: '/api/v1/upcoming',
    access: 'operator',
    says: 'What will stop if nobody acts: when, the latest moment to begin, what breaks, and how to fix it',
    query: UpcomingQuery,
    answer: UpcomingListed,
  },
  listCalendars: { method: 'GET', path: '/api/v1/calendars', access: 'operator', says: 'List calendar feeds', answer: list(Calendar) },
  addCalendar: {
    method: 'POST',
    path: '/api/v1/calendars',
    access: 'operator',
    says: 'Make a private address at which a calendar subscribes to what is upcoming',
    body: AddCalendar,
    answer: AddedCalendar,
  },
  removeCalendar: {
    method: 'DELETE',
    path: '/api/v1/calendars/{calendar}',
    access: 'operator',
    says: 'Revoke a calendar feed: its address stops answering',
    answer: Done,
  },
} as const satisfies Record<string, Operation>;
