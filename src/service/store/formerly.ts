/**
 * Words that 0.6 stored and that have new names. A migration replaces them; where a replica of 0.6 still runs beside this one, it may store
 * them again, so that they are read too. A word that a column knows under its old name keeps it.
 */
export const PRESENT_WORDS: Readonly<Record<string, string>> = {
  needs_person: 'action_needed',
  struggling: 'degraded',
  not_yet_agreed: 'not_yet_consented',
  not_asked: 'not_requested',
  asked: 'requested',
  they_ask_back: 'info_requested',
  given: 'approved',
  refused: 'rejected',
  organisation: 'organization',
  taken_over: 'imported',
  proved: 'verified',
  not_tried: 'not_verified',
  not_proved: 'not_verified',
  unproved: 'unverified',
  proving: 'verifying',
};

/** Members and codes in documents of our own, as JSON strings: these are never words of people. */
const IN_DOCUMENTS: Readonly<Record<string, string>> = {
  asked_on: 'requested_on',
  asked_by: 'request_form',
  organisation: 'organization',
  organisation_not_agreed: 'admin_consent_missing',
  scope_delimiter: 'scope_separator',
  proved: 'verified',
  not_tried: 'not_verified',
};
const QUOTED = new RegExp(`"(${Object.keys(IN_DOCUMENTS).join('|')})"`, 'g');

/** A document of ours as JSON text, with present names. */
export const presentDocument = (stored: string): string => stored.replace(QUOTED, (_whole, word: string) => `"${IN_DOCUMENTS[word] ?? word}"`);
