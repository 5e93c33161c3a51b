import fc from 'fast-check';
import { expect, test } from 'vitest';
import { wireRecord } from './wire-record.ts';

const opaque = fc.stringMatching(/^[A-Za-z0-9_.~-]{30,60}$/);
const names = fc.constantFrom('refresh_token', 'access_token', 'client_secret', 'code', 'id_token', 'assertion', 'something_of_theirs');

test('whatever is sent and whatever comes back, nothing opaque stays in the record', () => {
  fc.assert(
    fc.property(fc.array(fc.tuple(names, opaque), { minLength: 1, maxLength: 6 }), opaque, fc.boolean(), (members, key, isPage) => {
      const form = new URLSearchParams([['grant_type', 'refresh_token'], ...members]);
      const body = isPage
        ? `<h1>Sorry</h1> ${members.map(([, value]) => value).join(' ')}`
        : JSON.stringify({ ...Object.fromEntries(members), nested: { members } });
      const record = wireRecord(
        {
          method: 'POST',
          url: 'https://id.eelgrass.example/token',
          headers: { authorization: `Basic ${key}`, 'x-own': key, accept: 'application/json' },
          body: form.toString(),
          deadlineMs: 1,
          limitBytes: 1,
        },
        { kind: 'answer', status: 400, headers: { 'www-authenticate': `Bearer ${key}`, 'set-cookie': key, date: 'today' }, body, cut: false, tookMs: 3 },
      );
      const text = JSON.stringify(record);
      for (const secret of [key, ...members.map(([, value]) => value)]) expect(text).not.toContain(secret);
      expect(record).toMatchObject({ request: { form: { grant_type: 'refresh_token' }, headers: { accept: 'application/json' } }, answer: { status: 400 } });
    }),
  );
});

test('what helps stays: the error and its words, the media types, the reason of a silence', () => {
  const request = {
    method: 'POST',
    url: 'https://id.eelgrass.example/token',
    headers: { 'content-type': 'application/x-www-form-urlencoded' },
    deadlineMs: 1,
    limitBytes: 1,
  };
  const body = JSON.stringify({ error: 'invalid_grant', error_description: 'The grant was withdrawn.', retry: 3 });
  const answered = wireRecord(request, {
    kind: 'answer',
    status: 400,
    headers: { 'content-type': 'application/json; charset=utf-8' },
    body,
    cut: false,
    tookMs: 3,
  });
  expect(answered.request.headers['content-type']).toBe('application/x-www-form-urlencoded');
  expect(answered.answer).toEqual({
    status: 400,
    headers: { 'content-type': 'application/json; charset=utf-8' },
    body: { error: 'invalid_grant', error_description: 'The grant was withdrawn.', retry: 3 },
  });
  expect(wireRecord(request, { kind: 'unclear', reason: 'timeout', tookMs: 20_000 })).toMatchObject({ answer: null, reason: 'timeout', took_ms: 20_000 });
});
