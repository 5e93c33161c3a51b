import { AT, ID, table } from '../statement.ts';

/** People who connect accounts of their own. */
export const PEOPLE: readonly string[] = [
  table(
    'invitations',
    `
      id ${ID}, ticket_hash BINARY(32) NOT NULL, kind VARCHAR(12) NOT NULL, shared_id ${ID}, connection_id ${ID},
      caller_id BINARY(16) NULL, purpose VARCHAR(600) NOT NULL, return_to VARCHAR(1000) NULL, caller_state VARCHAR(500) NULL,
      uses_most INT UNSIGNED NULL, uses INT UNSIGNED NOT NULL, starts INT UNSIGNED NOT NULL, expires_at ${AT},
      revoked_at DATETIME(3) NULL, opened_at DATETIME(3) NULL, created_by VARCHAR(80) NOT NULL, created_at ${AT},
      consent_id BINARY(16) NULL, code_hash BINARY(32) NULL, code_expires_at DATETIME(3) NULL,
      PRIMARY KEY (id), UNIQUE KEY ticket_hash (ticket_hash), UNIQUE KEY code_hash (code_hash),
      KEY shared_id (shared_id, created_at), KEY (connection_id), KEY (expires_at)`,
  ),
  table(
    'invitation_uses',
    `
      invitation_id ${ID}, consent_id ${ID}, taken_at ${AT},
      PRIMARY KEY (invitation_id, consent_id), KEY (consent_id)`,
  ),
  table(
    'campaigns',
    `
      id ${ID}, shared_id ${ID}, name VARCHAR(63) NOT NULL, purpose VARCHAR(600) NOT NULL, caller_id BINARY(16) NULL,
      scopes TEXT NOT NULL, times_most INT UNSIGNED NOT NULL, remind_hours INT UNSIGNED NOT NULL, state VARCHAR(10) NOT NULL,
      created_by VARCHAR(63) NOT NULL, created_at ${AT}, ended_at DATETIME(3) NULL,
      PRIMARY KEY (id), UNIQUE KEY shared_id (shared_id, name), KEY (state)`,
  ),
  table(
    'campaign_people',
    `
      campaign_id ${ID}, connection_id ${ID}, times INT UNSIGNED NOT NULL, asked_at ${AT},
      PRIMARY KEY (campaign_id, connection_id)`,
  ),
  table(
    'mails',
    `
      id ${ID}, connection_id ${ID}, recipient VARCHAR(254) CHARACTER SET utf8mb4 NOT NULL, letter_sealed BLOB NOT NULL,
      state VARCHAR(10) NOT NULL, tries INT UNSIGNED NOT NULL, says VARCHAR(300) NOT NULL, created_at ${AT}, next_at ${AT},
      PRIMARY KEY (id), KEY state (state, next_at), KEY (connection_id)`,
  ),
  table(
    'person_events',
    `
      seq BIGINT UNSIGNED NOT NULL AUTO_INCREMENT, id ${ID}, shared_id ${ID}, connection_id ${ID},
      connection_name VARCHAR(63) NOT NULL, person_key VARCHAR(200) NOT NULL, kind VARCHAR(20) NOT NULL, data TEXT NOT NULL,
      link_sealed VARBINARY(400) NULL, once_key VARCHAR(120) NOT NULL, at ${AT}, caller_id BINARY(16) NULL,
      PRIMARY KEY (seq), UNIQUE KEY once_key (once_key), UNIQUE KEY id (id), KEY shared_id (shared_id, seq), KEY (at)`,
  ),
  table(
    'event_receivers',
    `
      caller_id ${ID}, url VARCHAR(1000) NOT NULL, secret_sealed VARBINARY(600) NULL, changed_at ${AT}, url_sealed MEDIUMBLOB NULL,
      PRIMARY KEY (caller_id)`,
  ),
  table(
    'event_deliveries',
    `
      seq BIGINT UNSIGNED NOT NULL, caller_id ${ID}, state VARCHAR(10) NOT NULL, tries INT UNSIGNED NOT NULL, next_at ${AT},
      says VARCHAR(300) NOT NULL,
      PRIMARY KEY (seq, caller_id), KEY state (state, next_at), KEY caller_id (caller_id, seq)`,
  ),
];
