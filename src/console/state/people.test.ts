import { expect, test } from 'vitest';
import { Invite } from '../../api/people.ts';
import { causesInWords, InviteDraft, shares } from './people.svelte.ts';

test('what is left empty in the form is left out, and a key is sent as it was typed', () => {
  const draft = new InviteDraft();
  [draft.person, draft.purpose, draft.caller] = [' a key ', ' Show it ', 'crew-portal'];
  expect(Invite.parse(draft.body())).toEqual({ person: ' a key ', purpose: 'Show it', caller: 'crew-portal', expires_in_hours: 168, uses: 1, labels: [] });
});

test('shares by state add up, causes taken together', () => {
  const counts = [
    { state: 'action_needed' as const, cause_key: 'refused' as const, count: 2 },
    { state: 'working' as const, cause_key: null, count: 5 },
    { state: 'action_needed' as const, cause_key: 'no_refresh_token' as const, count: 1 },
  ];
  expect(shares(counts)).toEqual([
    { state: 'working', label: 'working', count: 5, percent: 62.5 },
    { state: 'action_needed', label: 'action needed', count: 3, percent: 37.5 },
  ]);
  expect(shares([])).toEqual([]);
  expect(causesInWords(counts)).toBe('2 refused, 1 no refresh token');
});
