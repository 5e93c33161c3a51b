import { AT, ID, table } from '../statement.ts';

/** People who sign in, and what they did. */
export const OPERATORS: readonly string[] = [
  table(
    'operators',
    `
      id ${ID}, name VARCHAR(63) NOT NULL, password_hash VARCHAR(300) NOT NULL, created_at ${AT}, role VARCHAR(20) NULL,
      limits TEXT NULL, state VARCHAR(12) NULL, source VARCHAR(20) NULL, subject VARCHAR(600) NULL, invited_by VARCHAR(63) NULL,
      last_seen_at DATETIME(3) NULL, revision INT UNSIGNED NOT NULL DEFAULT 1,
      PRIMARY KEY (id), UNIQUE KEY name (name), UNIQUE KEY subject (subject)`,
  ),
  table(
    'sessions',
    `
      id ${ID}, operator_id ${ID}, hash BINARY(32) NOT NULL, kind VARCHAR(10) NOT NULL, created_at ${AT}, ends_at ${AT},
      name VARCHAR(60) NULL, role VARCHAR(20) NULL, confirmed_at DATETIME(3) NULL, last_used_at DATETIME(3) NULL,
      address VARCHAR(64) NULL, agent VARCHAR(200) NULL, identity_session VARCHAR(200) NULL,
      PRIMARY KEY (id), UNIQUE KEY hash (hash), KEY (ends_at), KEY (operator_id)`,
  ),
  table(
    'tickets',
    `
      id ${ID}, kind VARCHAR(20) NOT NULL, hash BINARY(32) NOT NULL, ends_at ${AT}, spent_at DATETIME(3) NULL,
      operator_id BINARY(16) NULL, data TEXT NULL, tries INT UNSIGNED NOT NULL DEFAULT 0,
      PRIMARY KEY (id), UNIQUE KEY hash (hash)`,
  ),
  table(
    'second_factors',
    `
      id ${ID}, operator_id ${ID}, kind VARCHAR(16) NOT NULL, name VARCHAR(60) NOT NULL, secret_sealed VARBINARY(400) NULL,
      credential_id VARBINARY(1024) NULL, public_key VARBINARY(2048) NULL, counter BIGINT UNSIGNED NOT NULL,
      challenge VARCHAR(200) NULL, verified_at DATETIME(3) NULL, created_at ${AT}, last_used_at DATETIME(3) NULL,
      PRIMARY KEY (id), KEY (operator_id)`,
  ),
  table(
    'recovery_codes',
    `
      id ${ID}, operator_id ${ID}, hash BINARY(32) NOT NULL, used_at DATETIME(3) NULL,
      PRIMARY KEY (id), KEY (operator_id)`,
  ),
  table(
    'identity_providers',
    `
      id TINYINT UNSIGNED NOT NULL, title VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL, issuer VARCHAR(500) NOT NULL,
      client_id VARCHAR(300) NOT NULL, secret_sealed VARBINARY(4000) NULL, scopes TEXT NOT NULL, groups_claim VARCHAR(100) NOT NULL,
      rules TEXT CHARACTER SET utf8mb4 NOT NULL, changed_by VARCHAR(63) NOT NULL, changed_at ${AT},
      PRIMARY KEY (id)`,
  ),
  table(
    'history',
    `
      id ${ID}, at ${AT}, actor VARCHAR(80) NOT NULL, kind VARCHAR(40) NOT NULL, subject VARCHAR(200) NOT NULL,
      says VARCHAR(600) NOT NULL, data TEXT NOT NULL, routine TINYINT(1) NOT NULL DEFAULT 0, request_id VARCHAR(40) NULL,
      address VARCHAR(64) NULL, chain_id BINARY(16) NULL, sequence BIGINT UNSIGNED NULL, hash BINARY(32) NULL,
      PRIMARY KEY (id, at), KEY subject (subject, at), KEY (at), KEY routine_at (routine, at),
      KEY subject_routine (subject, routine, at), KEY chained (chain_id, sequence), KEY kind_at (kind, at),
      KEY actor_at (actor, routine, at)`,
  ),
  table(
    'history_chains',
    `
      id ${ID}, routine TINYINT(1) NOT NULL, started_at ${AT}, base_sequence BIGINT UNSIGNED NOT NULL, base_hash BINARY(32) NULL,
      base_proof BINARY(32) NULL, head_sequence BIGINT UNSIGNED NOT NULL, head_hash BINARY(32) NOT NULL,
      head_proof BINARY(32) NOT NULL,
      PRIMARY KEY (id)`,
  ),
];
