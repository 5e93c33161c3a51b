import { expect, test } from 'vitest';
import { AddSecret, MakeCertificate } from '../../api/clients.ts';
import { ClientEntry, withTheirWord } from './client-entry.svelte.ts';

test('a secret is sent as it was entered; what belongs to keys alone is sent with keys alone', () => {
  const entry = new ClientEntry();
  expect([entry.isFilled(false), entry.isFilled(true)]).toEqual([false, false]);
  [entry.secret, entry.keyId, entry.algorithm, entry.form, entry.ends] = [' s ', ' kid ', 'ES256', 'pkcs12', '2027-03-01'];
  expect(AddSecret.parse(entry.secretBody(false))).toMatchObject({ secret: 's', form: 'pem', ends_at: '2027-03-01T00:00:00.000Z' });
  expect(entry.secretBody(false)).not.toHaveProperty('key_id');
  expect(entry.secretBody(true)).toMatchObject({ form: 'pkcs12', key_id: 'kid', algorithm: 'ES256' });
});

test('a certificate is made where a name was entered, and everything is empty afterwards', () => {
  const entry = new ClientEntry();
  [entry.commonName, entry.label] = [' books ', 'first'];
  expect([entry.makes(true), entry.makes(false), entry.isFilled(true)]).toEqual([true, false, true]);
  expect(MakeCertificate.parse(entry.certificateBody())).toMatchObject({ common_name: 'books', key: 'RSA-3072', label: 'first', ends_at: null });
  entry.clear();
  expect([entry.isFilled(true), entry.label]).toEqual([false, '']);
});

test('the provider\u2019s word stands beside ours, unless it is the same', () => {
  expect(withTheirWord({ client_secret: 'Password' }, 'client_secret', 'Client secret')).toBe('Client secret (at the provider: Password)');
  expect(withTheirWord({ client_secret: 'client secret' }, 'client_secret', 'Client secret')).toBe('Client secret');
});
