import { AT, ID, table } from '../statement.ts';

/** Programs that use connections, tools that sign in, and counts of use. */
export const CALLERS: readonly string[] = [
  table(
    'callers',
    `
      id ${ID}, name VARCHAR(63) NOT NULL, title VARCHAR(80) NOT NULL, caller_id VARCHAR(60) NOT NULL, created_at ${AT},
      token_path VARCHAR(200) NULL, redirect_uris TEXT NULL, keeps_no_secret TINYINT(1) NOT NULL DEFAULT 0,
      PRIMARY KEY (id), UNIQUE KEY name (name), UNIQUE KEY caller_id (caller_id), UNIQUE KEY token_path (token_path)`,
  ),
  table(
    'caller_keys',
    `
      id ${ID}, caller_id ${ID}, label VARCHAR(60) NOT NULL, starts VARCHAR(12) NOT NULL, hash BINARY(32) NOT NULL, starts_at ${AT},
      ends_at DATETIME(3) NULL, last_used_at DATETIME(3) NULL, retired TINYINT(1) NOT NULL DEFAULT 0,
      PRIMARY KEY (id), KEY (caller_id)`,
  ),
  table(
    'caller_identities',
    `
      id ${ID}, caller_id ${ID}, kind VARCHAR(12) NOT NULL, label VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL,
      rule MEDIUMTEXT NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT}, last_used_at DATETIME(3) NULL,
      PRIMARY KEY (id), KEY (caller_id)`,
  ),
  table(
    'used_assertions',
    `
      hash BINARY(32) NOT NULL, until ${AT},
      PRIMARY KEY (hash), KEY (until)`,
  ),
  table(
    'permissions',
    `
      id ${ID}, caller_id ${ID}, connection_id BINARY(16) NULL, label VARCHAR(63) NULL, use_as VARCHAR(10) NOT NULL DEFAULT 'any',
      methods TEXT NULL, paths TEXT NULL, share TINYINT UNSIGNED NULL, people VARCHAR(8) NOT NULL DEFAULT 'none',
      PRIMARY KEY (id), UNIQUE KEY caller_id (caller_id, connection_id), UNIQUE KEY caller_label (caller_id, label),
      KEY (connection_id), KEY (label)`,
  ),
  table(
    'door_requests',
    `
      id ${ID}, caller_id ${ID}, redirect_uri VARCHAR(1000) NOT NULL, redirect_uri_given TINYINT(1) NOT NULL,
      state VARCHAR(2000) NULL, challenge VARCHAR(100) NULL, wished VARCHAR(63) NULL, cookie_hash BINARY(32) NOT NULL,
      phase VARCHAR(20) NOT NULL, connection_id BINARY(16) NULL, operator VARCHAR(63) NULL, code_hash BINARY(32) NULL,
      code_ends_at DATETIME(3) NULL, sign_in_id BINARY(16) NULL, expires_at ${AT}, created_at ${AT},
      PRIMARY KEY (id), KEY (code_hash), KEY (expires_at), KEY (caller_id)`,
  ),
  table(
    'door_sign_ins',
    `
      id ${ID}, caller_id ${ID}, connection_id ${ID}, operator VARCHAR(63) NOT NULL, created_at ${AT},
      last_used_at DATETIME(3) NULL, ended_at DATETIME(3) NULL, ended_why VARCHAR(40) NULL,
      PRIMARY KEY (id), KEY (caller_id), KEY (connection_id)`,
  ),
  table(
    'door_tokens',
    `
      hash BINARY(32) NOT NULL, sign_in_id ${ID}, kind VARCHAR(10) NOT NULL, created_at ${AT}, ends_at ${AT},
      spent_at DATETIME(3) NULL,
      PRIMARY KEY (hash), KEY (sign_in_id), KEY (ends_at)`,
  ),
  table(
    'usage_minutes',
    `
      caller_id ${ID}, connection_id ${ID}, minute ${AT}, outcome VARCHAR(20) NOT NULL, count INT UNSIGNED NOT NULL,
      PRIMARY KEY (caller_id, connection_id, minute, outcome), KEY (minute)`,
  ),
  table(
    'relayed_hours',
    `
      caller_id ${ID}, connection_id ${ID}, hour ${AT}, class TINYINT UNSIGNED NOT NULL, count INT UNSIGNED NOT NULL,
      PRIMARY KEY (caller_id, connection_id, hour, class), KEY (hour), KEY (connection_id)`,
  ),
  table(
    'relayed_last',
    `
      caller_id ${ID}, connection_id ${ID}, kind VARCHAR(6) NOT NULL, at ${AT}, status SMALLINT UNSIGNED NULL,
      method VARCHAR(10) NOT NULL, path VARCHAR(300) NOT NULL, cause VARCHAR(40) NULL, says VARCHAR(300) NULL,
      remedy VARCHAR(500) NULL,
      PRIMARY KEY (caller_id, connection_id, kind), KEY (at), KEY (connection_id)`,
  ),
];
