import { AT, ID, table } from '../statement.ts';

/** Jobs with what they collect, notices with their channels, calendars, rehearsals. */
export const WORK: readonly string[] = [
  table(
    'jobs',
    `
      id ${ID}, name VARCHAR(63) NOT NULL, connection_id ${ID}, settings LONGTEXT NOT NULL, hash_key_sealed VARBINARY(300) NOT NULL,
      signing_secret_sealed VARBINARY(600) NULL, enabled TINYINT(1) NOT NULL, revision INT UNSIGNED NOT NULL,
      next_run_at DATETIME(3) NULL, runs_made INT UNSIGNED NOT NULL, latest_run_id BINARY(16) NULL, created_by VARCHAR(63) NOT NULL,
      created_at ${AT}, settings_sealed MEDIUMBLOB NULL,
      PRIMARY KEY (id), UNIQUE KEY name (name), KEY (connection_id), KEY (next_run_at)`,
  ),
  table(
    'runs',
    `
      id ${ID}, job_id BINARY(16) NULL, connection_id ${ID}, number INT UNSIGNED NOT NULL, reason VARCHAR(12) NOT NULL,
      requested_by VARCHAR(63) NOT NULL, state VARCHAR(10) NOT NULL, plan LONGTEXT NOT NULL, checkpoint LONGTEXT NOT NULL,
      outcome LONGTEXT NULL, waits VARCHAR(600) NULL, stamp INT UNSIGNED NOT NULL DEFAULT 0, started_at ${AT},
      ended_at DATETIME(3) NULL, next_at ${AT}, lease_token CHAR(22) NULL, lease_until DATETIME(3) NULL,
      plan_sealed MEDIUMBLOB NULL,
      PRIMARY KEY (id), UNIQUE KEY job_id (job_id, number), KEY state (state, next_at), KEY (connection_id), KEY (ended_at)`,
  ),
  table(
    'run_pages',
    `
      run_id ${ID}, sequence INT UNSIGNED NOT NULL, records INT UNSIGNED NOT NULL, data LONGBLOB NOT NULL, ids LONGBLOB NULL,
      PRIMARY KEY (run_id, sequence)`,
  ),
  table(
    'run_files',
    `
      run_id ${ID}, format VARCHAR(6) NOT NULL, sequence INT UNSIGNED NOT NULL, starts BIGINT UNSIGNED NOT NULL,
      size INT UNSIGNED NOT NULL, data LONGBLOB NOT NULL,
      PRIMARY KEY (run_id, format, sequence)`,
  ),
  table(
    'deliveries',
    `
      run_id ${ID}, target INT UNSIGNED NOT NULL, settings TEXT NOT NULL, state VARCHAR(10) NOT NULL, tries INT UNSIGNED NOT NULL,
      says VARCHAR(600) NOT NULL, next_at ${AT},
      PRIMARY KEY (run_id, target), KEY state (state, next_at)`,
  ),
  table(
    'notices',
    `
      id ${ID}, open_key VARCHAR(190) NULL, cause_key VARCHAR(190) NOT NULL, kind VARCHAR(16) NOT NULL,
      severity VARCHAR(10) NOT NULL, subject VARCHAR(200) NOT NULL, title VARCHAR(300) CHARACTER SET utf8mb4 NOT NULL,
      evidence VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, remedy VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL,
      page VARCHAR(300) NOT NULL, command VARCHAR(300) NOT NULL, labels TEXT NOT NULL, connections INT UNSIGNED NOT NULL,
      due_at DATETIME(3) NULL, state VARCHAR(10) NOT NULL, first_seen_at ${AT}, opened_at DATETIME(3) NULL,
      gone_since DATETIME(3) NULL, closed_at DATETIME(3) NULL, reminded INT UNSIGNED NOT NULL, returns INT UNSIGNED NOT NULL,
      acknowledged_by VARCHAR(63) NULL, acknowledged_at DATETIME(3) NULL, assigned_to VARCHAR(63) NULL,
      snoozed_until DATETIME(3) NULL, revision INT UNSIGNED NOT NULL,
      PRIMARY KEY (id), UNIQUE KEY open_key (open_key), KEY state (state, opened_at), KEY (closed_at)`,
  ),
  table(
    'channels',
    `
      id ${ID}, name VARCHAR(63) NOT NULL, kind VARCHAR(10) NOT NULL, recipients TEXT NOT NULL, url VARCHAR(1000) NULL,
      script VARCHAR(120) NULL, secret_sealed VARBINARY(600) NULL, rule TEXT NOT NULL, enabled TINYINT(1) NOT NULL,
      revision INT UNSIGNED NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT}, busy_until DATETIME(3) NULL,
      failing_since DATETIME(3) NULL, failures INT UNSIGNED NOT NULL, last_at DATETIME(3) NULL, last_says VARCHAR(300) NOT NULL,
      url_sealed MEDIUMBLOB NULL,
      PRIMARY KEY (id), UNIQUE KEY name (name)`,
  ),
  table(
    'notice_deliveries',
    `
      id ${ID}, notice_id ${ID}, channel_id ${ID}, event VARCHAR(10) NOT NULL, state VARCHAR(10) NOT NULL, created_at ${AT},
      next_at ${AT}, says VARCHAR(300) NOT NULL,
      PRIMARY KEY (id), KEY channel_id (channel_id, state, next_at), KEY (notice_id), KEY state (state, created_at)`,
  ),
  table(
    'calendars',
    `
      id ${ID}, name VARCHAR(63) NOT NULL, token_hash BINARY(32) NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT},
      last_read_at DATETIME(3) NULL,
      PRIMARY KEY (id), UNIQUE KEY name (name), UNIQUE KEY token_hash (token_hash)`,
  ),
  table(
    'calendar_entries',
    `
      entry_key VARCHAR(190) NOT NULL, summary VARCHAR(300) CHARACTER SET utf8mb4 NOT NULL, at ${AT},
      sequence INT UNSIGNED NOT NULL, canceled_at DATETIME(3) NULL,
      PRIMARY KEY (entry_key), KEY (canceled_at)`,
  ),
  table(
    'rehearsals',
    `
      id ${ID}, scenario VARCHAR(24) NOT NULL, providers TEXT NOT NULL, act TINYINT(1) NOT NULL, state VARCHAR(10) NOT NULL,
      started_by VARCHAR(63) NOT NULL, started_at ${AT}, ended_at DATETIME(3) NULL, percent INT UNSIGNED NOT NULL,
      doing VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, busy_until DATETIME(3) NULL, report MEDIUMTEXT CHARACTER SET utf8mb4 NULL,
      PRIMARY KEY (id), KEY (state)`,
  ),
];
