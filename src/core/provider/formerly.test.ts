import { expect, test } from 'vitest';
import { withPresentNames } from './formerly.ts';

const former = () => ({
  name: 'harbour',
  dialect: {
    scope_delimiter: ',',
    organisation_agreement: { page: 'https://id.example/all', refused: ['consent_required'] },
    approval_check: { given: ['invalid_grant'], asked: ['pending'], they_ask_back: ['question'], refused: ['no'] },
  },
  scopes: [{ name: 'all', organisation: true }, { name: 'some' }],
  apis: [{ probe: { ability: 'reading' }, probes: [{ ability: 'writing' }] }],
  guide: [{ title: 'Start', does: 'Put {organisation} in.', look_alike: 'The other page.', found_right_on: '2026-01-02' }],
  registration: { form: [{ question: 'Who?', answer: 'organisation' }] },
  reach: [{ reach: 'organisation' }, { reach: 'anyone' }],
});

test('a definition of 0.6 is read with its present names, and each former name is reported once', () => {
  const document = former();
  const notes = withPresentNames(document);
  expect(document).toEqual({
    name: 'harbour',
    dialect: {
      scope_separator: ',',
      admin_consent: { page: 'https://id.example/all', rejected: ['consent_required'] },
      approval_check: { approved: ['invalid_grant'], requested: ['pending'], info_requested: ['question'], rejected: ['no'] },
    },
    scopes: [{ name: 'all', organization: true }, { name: 'some' }],
    apis: [{ probe: { capability: 'reading' }, probes: [{ capability: 'writing' }] }],
    guide: [{ title: 'Start', does: 'Put {organization} in.', do_not_confuse: 'The other page.', last_verified: '2026-01-02' }],
    registration: { form: [{ question: 'Who?', answer: 'organization' }] },
    reach: [{ reach: 'organization' }, { reach: 'anyone' }],
  });
  expect(notes).toContain('`scope_delimiter` is now `scope_separator`.');
  expect(new Set(notes).size).toBe(notes.length);
  expect(withPresentNames(document)).toEqual([]);
});

test('a member under both names is left alone, so that the reading rejects the former one', () => {
  const both = { dialect: { scope_delimiter: ',', scope_separator: ' ' } };
  expect([withPresentNames(both), both]).toEqual([[], { dialect: { scope_delimiter: ',', scope_separator: ' ' } }]);
  for (const odd of [null, 7, 'text', [], { dialect: 'text', scopes: {}, guide: [7, null] }]) expect(withPresentNames(odd)).toEqual([]);
});
