import { AT, ID, table } from '../statement.ts';

/** Connections with their grants. Hot: renewals, tokens, spare_tokens, api_sessions, wire_log, quota_windows. */
export const CONNECTIONS: readonly string[] = [
  table(
    'connections',
    `
      id ${ID}, name VARCHAR(63) NOT NULL, client_id ${ID}, intent VARCHAR(20) NOT NULL, current_grant_id BINARY(16) NULL,
      scopes TEXT NOT NULL, expected_account VARCHAR(200) NULL, labels TEXT NOT NULL, policy VARCHAR(20) NOT NULL,
      revision INT UNSIGNED NOT NULL, created_at ${AT}, last_used_at DATETIME(3) NULL,
      grant_type VARCHAR(30) NOT NULL DEFAULT 'authorization_code', placeholders TEXT NULL, operations TEXT NULL,
      standby_grant_id BINARY(16) NULL, standby_why VARCHAR(20) NULL, state VARCHAR(20) NOT NULL DEFAULT 'draft',
      cause_key VARCHAR(24) NULL, search_text VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL DEFAULT '',
      state_at DATETIME(3) NOT NULL DEFAULT '2000-01-01 00:00:00.000',
      check_state_at DATETIME(3) NOT NULL DEFAULT '2000-01-01 00:00:00.000', state_mark INT UNSIGNED NOT NULL DEFAULT 0,
      shared TINYINT(1) NOT NULL DEFAULT 0, person_of BINARY(16) NULL, person_hash BINARY(32) NULL, person_key VARCHAR(200) NULL,
      person_name VARCHAR(120) CHARACTER SET utf8mb4 NULL, person_mail VARCHAR(254) CHARACTER SET utf8mb4 NULL,
      changed_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3) ON UPDATE CURRENT_TIMESTAMP(3),
      inviting_caller_id BINARY(16) NULL,
      PRIMARY KEY (id), UNIQUE KEY name (name), UNIQUE KEY person (person_of, person_hash), KEY (client_id), KEY (intent),
      KEY state_name (state, name), KEY client_state (client_id, state, cause_key, name), KEY (check_state_at),
      KEY (current_grant_id), KEY (standby_why), KEY searched (name, search_text), KEY people_by_name (person_of, name),
      KEY people_by_state (person_of, state, cause_key), KEY (changed_at)`,
  ),
  table(
    'connection_labels',
    `
      connection_id ${ID}, label VARCHAR(63) NOT NULL,
      PRIMARY KEY (connection_id, label), KEY (label)`,
  ),
  table(
    'saved_calls',
    `
      id ${ID}, connection_id ${ID}, name VARCHAR(63) NOT NULL, call_document MEDIUMTEXT NOT NULL, saved_by VARCHAR(63) NOT NULL,
      saved_at ${AT}, call_document_sealed MEDIUMBLOB NULL,
      PRIMARY KEY (id), UNIQUE KEY connection_id (connection_id, name)`,
  ),
  table(
    'consents',
    `
      id ${ID}, ticket_hash BINARY(32) NOT NULL, state_hash BINARY(32) NULL, cookie_hash BINARY(32) NULL, client_id ${ID},
      connection_id ${ID}, grant_id ${ID}, verifier_sealed VARBINARY(400) NULL, scopes TEXT NOT NULL, phase VARCHAR(20) NOT NULL,
      opened_by VARCHAR(63) NOT NULL, expires_at ${AT}, finished_at DATETIME(3) NULL, outcome MEDIUMTEXT NOT NULL,
      way VARCHAR(20) NOT NULL DEFAULT 'redirect', facts TEXT NULL, device_sealed VARBINARY(4000) NULL, poll_at DATETIME(3) NULL,
      code_hash BINARY(32) NULL,
      PRIMARY KEY (id), UNIQUE KEY ticket_hash (ticket_hash), UNIQUE KEY state_hash (state_hash), KEY (expires_at),
      KEY (connection_id), KEY (poll_at), KEY (code_hash)`,
  ),
  table(
    'grants',
    `
      id ${ID}, connection_id ${ID}, kind VARCHAR(20) NOT NULL, person_key VARCHAR(200) NULL, account_id VARCHAR(300) NULL,
      account_label VARCHAR(300) NULL, scopes TEXT NOT NULL, consented_by VARCHAR(63) NULL, consented_at ${AT},
      ended_at DATETIME(3) NULL, cause VARCHAR(40) NULL, evidence VARCHAR(500) NULL, proof VARCHAR(20) NOT NULL,
      proof_answer MEDIUMTEXT NULL, life_ends_at DATETIME(3) NULL, api_base_url VARCHAR(1000) NULL, client_id BINARY(16) NULL,
      placeholders TEXT NULL, opened VARCHAR(300) NULL, abilities TEXT NULL, claims TEXT NULL, subject VARCHAR(200) NULL,
      PRIMARY KEY (id), KEY (connection_id), KEY (life_ends_at), KEY life_ends (life_ends_at)`,
  ),
  table(
    'renewals',
    `
      grant_id ${ID}, next_at DATETIME(3) NULL, owner BINARY(16) NULL, claim_id BINARY(16) NULL, epoch BIGINT UNSIGNED NOT NULL,
      lease_until DATETIME(3) NULL, sent_epoch BIGINT UNSIGNED NULL, sent_by BINARY(16) NULL, sent_at DATETIME(3) NULL,
      uncertain_since DATETIME(3) NULL, uncertain_by BINARY(16) NULL, refused_at DATETIME(3) NULL,
      generation BIGINT UNSIGNED NOT NULL, parent_generation BIGINT UNSIGNED NULL, saved_epoch BIGINT UNSIGNED NULL,
      failures INT UNSIGNED NOT NULL, ended TINYINT(1) NOT NULL DEFAULT 0, cause VARCHAR(20) NULL, issued_at ${AT},
      expires_at ${AT}, client_id BINARY(16) NOT NULL DEFAULT '\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0',
      PRIMARY KEY (grant_id), KEY next_at_client (next_at, client_id)`,
  ),
  table(
    'tokens',
    `
      grant_id ${ID}, access_sealed BLOB NOT NULL, refresh_sealed BLOB NULL,
      PRIMARY KEY (grant_id)`,
  ),
  table(
    'spare_tokens',
    `
      grant_id ${ID}, epoch BIGINT UNSIGNED NOT NULL, generation BIGINT UNSIGNED NOT NULL, kind VARCHAR(10) NOT NULL,
      access_sealed BLOB NOT NULL, refresh_sealed BLOB NULL, issued_at ${AT}, expires_at ${AT},
      PRIMARY KEY (grant_id, epoch)`,
  ),
  table(
    'api_sessions',
    `
      grant_id ${ID}, version INT UNSIGNED NOT NULL, sealed BLOB NULL, base_url VARCHAR(1000) NULL, issued_at DATETIME(3) NULL,
      expires_at DATETIME(3) NULL, owner BINARY(16) NULL, lease_until DATETIME(3) NULL,
      PRIMARY KEY (grant_id)`,
  ),
  table(
    'wire_log',
    `
      grant_id ${ID}, n TINYINT UNSIGNED NOT NULL, at ${AT}, class VARCHAR(20) NOT NULL, record TEXT NOT NULL,
      PRIMARY KEY (grant_id, n)`,
  ),
  table(
    'quota_windows',
    `
      scope VARCHAR(160) CHARACTER SET ascii NOT NULL, starts_at ${AT}, most INT UNSIGNED NOT NULL, used INT UNSIGNED NOT NULL,
      held_until DATETIME(3) NULL,
      PRIMARY KEY (scope, starts_at), KEY (starts_at)`,
  ),
  table(
    'revocations',
    `
      grant_id ${ID}, connection_name VARCHAR(63) NOT NULL, client_id ${ID}, placeholders TEXT NOT NULL,
      access_sealed BLOB NOT NULL, refresh_sealed BLOB NULL, tries INT UNSIGNED NOT NULL, next_at DATETIME(3) NULL,
      says VARCHAR(500) NOT NULL, created_at ${AT},
      PRIMARY KEY (grant_id), KEY (next_at), KEY (connection_name)`,
  ),
];
