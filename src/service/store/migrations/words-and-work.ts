import { AT, ID, type Migration, table } from './statement.ts';

/** Plain words in stored values; jobs, people, dates and notices. */
export const WORDS_AND_WORK: readonly Migration[] = [
  // Renewals that went as planned push what people did out of sight: they are marked, and kept for a shorter time.
  [
    '0052-history-routine',
    'ALTER TABLE history ADD COLUMN IF NOT EXISTS routine TINYINT(1) NOT NULL DEFAULT 0, ADD KEY IF NOT EXISTS routine_at (routine, at), ADD KEY IF NOT EXISTS subject_routine (subject, routine, at)',
  ],
  [
    '0053-relayed-hours',
    table(
      'relayed_hours',
      `caller_id ${ID}, connection_id ${ID}, hour ${AT}, class TINYINT UNSIGNED NOT NULL, count INT UNSIGNED NOT NULL, PRIMARY KEY (caller_id, connection_id, hour, class), KEY (hour), KEY (connection_id)`,
    ),
  ],
  [
    '0054-relayed-last',
    table(
      'relayed_last',
      `caller_id ${ID}, connection_id ${ID}, kind VARCHAR(6) NOT NULL, at ${AT}, status SMALLINT UNSIGNED NULL, method VARCHAR(10) NOT NULL, path VARCHAR(300) NOT NULL, cause VARCHAR(40) NULL, says VARCHAR(300) NULL, remedy VARCHAR(500) NULL, PRIMARY KEY (caller_id, connection_id, kind), KEY (at), KEY (connection_id)`,
    ),
  ],
  // The shown state of each connection and what it is searched by, so that lists need no other table. Due at once: it is worked out from there.
  [
    '0055-connection-states',
    `ALTER TABLE connections
       ADD COLUMN IF NOT EXISTS state VARCHAR(20) NOT NULL DEFAULT 'draft', ADD COLUMN IF NOT EXISTS cause_key VARCHAR(24) NULL,
       ADD COLUMN IF NOT EXISTS search_text VARCHAR(600) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS state_at DATETIME(3) NOT NULL DEFAULT '2000-01-01',
       ADD COLUMN IF NOT EXISTS check_state_at DATETIME(3) NOT NULL DEFAULT '2000-01-01', ADD COLUMN IF NOT EXISTS state_mark INT UNSIGNED NOT NULL DEFAULT 0,
       ADD KEY IF NOT EXISTS state_name (state, name), ADD KEY IF NOT EXISTS client_state (client_id, state, cause_key, name),
       ADD KEY IF NOT EXISTS check_state_at (check_state_at), ADD KEY IF NOT EXISTS current_grant_id (current_grant_id),
       ADD KEY IF NOT EXISTS standby_why (standby_why)`,
  ],
  ['0056-permissions-by-label', 'ALTER TABLE permissions ADD KEY IF NOT EXISTS label (label)'],
  // Read from end to end by a search, and in order of names: both columns, and nothing else.
  ['0057-connections-searched', 'ALTER TABLE connections ADD KEY IF NOT EXISTS searched (name, search_text)'],
  // Words that have plainer names. Each statement can run again; what a replica of 0.6 stores meanwhile is read as well (formerly.ts).
  [
    '0058-approval-words',
    `UPDATE clients SET approval = ELT(FIELD(approval, 'not_asked', 'asked', 'they_ask_back', 'given', 'refused'), 'not_requested', 'requested', 'info_requested', 'approved', 'rejected')
       WHERE approval IN ('not_asked', 'asked', 'they_ask_back', 'given', 'refused')`,
  ],
  ['0059-reach-words', "UPDATE clients SET reach = 'organization' WHERE reach = 'organisation'"],
  [
    '0060-registering-words',
    `UPDATE clients SET registering = REPLACE(REPLACE(registering, '"asked_on"', '"requested_on"'), '"asked_by"', '"request_form"')
       WHERE registering LIKE '%"asked_on"%' OR registering LIKE '%"asked_by"%'`,
  ],
  [
    '0061-secret-words',
    "UPDATE client_secrets SET state = ELT(FIELD(state, 'unproved', 'refused'), 'unverified', 'rejected') WHERE state IN ('unproved', 'refused')",
  ],
  ['0062-grant-kinds', "UPDATE grants SET kind = 'imported' WHERE kind = 'taken_over'"],
  ['0063-proof-words', "UPDATE grants SET proof = ELT(FIELD(proof, 'proved', 'not_tried'), 'verified', 'not_verified') WHERE proof IN ('proved', 'not_tried')"],
  [
    '0064-connection-words',
    "UPDATE connections SET standby_why = IF(standby_why = 'not_proved', 'not_verified', standby_why), check_state_at = '2000-01-01', state_mark = state_mark + 1",
  ],
  ['0065-consent-ways', "UPDATE consents SET way = IF(way = 'taken_over', 'imported', way), phase = IF(phase = 'proving', 'verifying', phase)"],
  [
    '0066-history-kinds',
    `UPDATE history SET kind = ELT(FIELD(kind, 'needs_person', 'taken_over', 'secret_proved', 'agreement_checked', 'standby_forgotten', 'key_given'), 'action_needed', 'imported', 'secret_verified', 'admin_consent_checked', 'standby_discarded', 'key_set')
       WHERE kind IN ('needs_person', 'taken_over', 'secret_proved', 'agreement_checked', 'standby_forgotten', 'key_given')`,
  ],
  [
    '0067-relayed-causes',
    "UPDATE relayed_last SET cause = ELT(FIELD(cause, 'organisation_not_agreed', 'scope_delimiter'), 'admin_consent_missing', 'scope_separator') WHERE cause IN ('organisation_not_agreed', 'scope_delimiter')",
  ],
  // Jobs: scheduled collections of records, their runs, and what was collected, page by page.
  [
    '0068-jobs',
    table(
      'jobs',
      `id ${ID} PRIMARY KEY, name VARCHAR(63) NOT NULL, connection_id ${ID}, settings LONGTEXT NOT NULL, hash_key_sealed VARBINARY(300) NOT NULL, signing_secret_sealed VARBINARY(600) NULL,
       enabled BOOLEAN NOT NULL, revision INT UNSIGNED NOT NULL, next_run_at DATETIME(3) NULL, runs_made INT UNSIGNED NOT NULL, latest_run_id BINARY(16) NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT},
       UNIQUE KEY (name), KEY (connection_id), KEY (next_run_at)`,
    ),
  ],
  [
    '0069-runs',
    table(
      'runs',
      `id ${ID} PRIMARY KEY, job_id BINARY(16) NULL, connection_id ${ID}, number INT UNSIGNED NOT NULL, reason VARCHAR(12) NOT NULL, requested_by VARCHAR(63) NOT NULL,
       state VARCHAR(10) NOT NULL, plan LONGTEXT NOT NULL, checkpoint LONGTEXT NOT NULL, outcome LONGTEXT NULL, waits VARCHAR(600) NULL, stamp INT UNSIGNED NOT NULL DEFAULT 0,
       started_at ${AT}, ended_at DATETIME(3) NULL, next_at ${AT}, lease_token CHAR(22) NULL, lease_until DATETIME(3) NULL,
       UNIQUE KEY (job_id, number), KEY (state, next_at), KEY (connection_id), KEY (ended_at)`,
    ),
  ],
  [
    '0070-run-pages',
    table(
      'run_pages',
      `run_id ${ID}, sequence INT UNSIGNED NOT NULL, records INT UNSIGNED NOT NULL, data LONGBLOB NOT NULL, ids LONGBLOB NULL, PRIMARY KEY (run_id, sequence)`,
    ),
  ],
  [
    '0071-run-files',
    table(
      'run_files',
      `run_id ${ID}, format VARCHAR(6) NOT NULL, sequence INT UNSIGNED NOT NULL, starts BIGINT UNSIGNED NOT NULL, size INT UNSIGNED NOT NULL, data LONGBLOB NOT NULL, PRIMARY KEY (run_id, format, sequence)`,
    ),
  ],
  [
    '0072-deliveries',
    table(
      'deliveries',
      `run_id ${ID}, target INT UNSIGNED NOT NULL, settings TEXT NOT NULL, state VARCHAR(10) NOT NULL, tries INT UNSIGNED NOT NULL, says VARCHAR(600) NOT NULL, next_at ${AT}, PRIMARY KEY (run_id, target), KEY (state, next_at)`,
    ),
  ],
  // Shared connections: each person's grant is a connection of its own below the shared one, under `NAME@CODE`.
  [
    '0073-people',
    `ALTER TABLE connections ADD COLUMN IF NOT EXISTS shared TINYINT(1) NOT NULL DEFAULT 0, ADD COLUMN IF NOT EXISTS person_of BINARY(16) NULL, ADD COLUMN IF NOT EXISTS person_hash BINARY(32) NULL,
       ADD COLUMN IF NOT EXISTS person_key VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NULL, ADD COLUMN IF NOT EXISTS person_name VARCHAR(120) CHARACTER SET utf8mb4 NULL,
       ADD UNIQUE KEY IF NOT EXISTS person (person_of, person_hash), ADD KEY IF NOT EXISTS people_by_name (person_of, name), ADD KEY IF NOT EXISTS people_by_state (person_of, state, cause_key)`,
  ],
  [
    '0075-invitations',
    table(
      'invitations',
      `id ${ID} PRIMARY KEY, ticket_hash BINARY(32) NOT NULL, kind VARCHAR(12) NOT NULL, shared_id ${ID}, connection_id ${ID}, caller_id BINARY(16) NULL, purpose VARCHAR(600) NOT NULL, return_to VARCHAR(1000) NULL, caller_state VARCHAR(500) NULL,
       uses_most INT UNSIGNED NULL, uses INT UNSIGNED NOT NULL, starts INT UNSIGNED NOT NULL, expires_at DATETIME(3) NOT NULL, revoked_at DATETIME(3) NULL, opened_at DATETIME(3) NULL, created_by VARCHAR(80) NOT NULL, created_at ${AT},
       consent_id BINARY(16) NULL, code_hash BINARY(32) NULL, code_expires_at DATETIME(3) NULL, UNIQUE KEY (ticket_hash), UNIQUE KEY (code_hash), KEY (shared_id, created_at), KEY (connection_id), KEY (expires_at)`,
    ),
  ],
  [
    '0076-person-events',
    table(
      'person_events',
      `seq BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, id ${ID}, shared_id ${ID}, connection_id ${ID}, connection_name VARCHAR(63) NOT NULL, person_key VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL, kind VARCHAR(20) NOT NULL, data TEXT NOT NULL, link_sealed VARBINARY(400) NULL,
       once_key VARCHAR(120) NOT NULL, at ${AT}, UNIQUE KEY (once_key), UNIQUE KEY (id), KEY (shared_id, seq), KEY (at)`,
    ),
  ],
  [
    '0077-event-receivers',
    table('event_receivers', `caller_id ${ID} PRIMARY KEY, url VARCHAR(1000) NOT NULL, secret_sealed VARBINARY(600) NULL, changed_at ${AT}`),
  ],
  [
    '0078-event-deliveries',
    table(
      'event_deliveries',
      `seq BIGINT UNSIGNED NOT NULL, caller_id ${ID}, state VARCHAR(10) NOT NULL, tries INT UNSIGNED NOT NULL, next_at ${AT}, says VARCHAR(300) NOT NULL, PRIMARY KEY (seq, caller_id), KEY (state, next_at), KEY (caller_id, seq)`,
    ),
  ],
  ['0079-person-mail', 'ALTER TABLE connections ADD COLUMN IF NOT EXISTS person_mail VARCHAR(254) CHARACTER SET utf8mb4 NULL'],
  [
    '0080-mails',
    table(
      'mails',
      `id ${ID} PRIMARY KEY, connection_id ${ID}, recipient VARCHAR(254) CHARACTER SET utf8mb4 NOT NULL, letter_sealed BLOB NOT NULL, state VARCHAR(10) NOT NULL, tries INT UNSIGNED NOT NULL, says VARCHAR(300) NOT NULL, created_at ${AT}, next_at ${AT}, KEY (state, next_at), KEY (connection_id)`,
    ),
  ],
  [
    '0081-campaigns',
    table(
      'campaigns',
      `id ${ID} PRIMARY KEY, shared_id ${ID}, name VARCHAR(63) NOT NULL, purpose VARCHAR(600) NOT NULL, caller_id BINARY(16) NULL, scopes TEXT NOT NULL, times_most INT UNSIGNED NOT NULL, remind_hours INT UNSIGNED NOT NULL, state VARCHAR(10) NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT}, ended_at DATETIME(3) NULL, UNIQUE KEY (shared_id, name), KEY (state)`,
    ),
  ],
  [
    '0082-campaign-people',
    table('campaign_people', `campaign_id ${ID}, connection_id ${ID}, times INT UNSIGNED NOT NULL, asked_at ${AT}, PRIMARY KEY (campaign_id, connection_id)`),
  ],
  // Private addresses at which calendar programs read what is upcoming.
  [
    '0083-calendars',
    table(
      'calendars',
      `id ${ID} PRIMARY KEY, name VARCHAR(63) NOT NULL, token_hash BINARY(32) NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT}, last_read_at DATETIME(3) NULL, UNIQUE KEY (name), UNIQUE KEY (token_hash)`,
    ),
  ],
  ['0084-dates', 'ALTER TABLE grants ADD KEY IF NOT EXISTS life_ends (life_ends_at)'],
  // One notice for each cause: `open_key` is unique while it is not closed, so that two replicas open one only once.
  [
    '0085-notices',
    table(
      'notices',
      `id ${ID} PRIMARY KEY, open_key VARCHAR(190) NULL, cause_key VARCHAR(190) NOT NULL, kind VARCHAR(16) NOT NULL, severity VARCHAR(10) NOT NULL, subject VARCHAR(200) NOT NULL, title VARCHAR(300) CHARACTER SET utf8mb4 NOT NULL, evidence VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL,
       remedy VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, page VARCHAR(300) NOT NULL, command VARCHAR(300) NOT NULL, labels TEXT NOT NULL, connections INT UNSIGNED NOT NULL, due_at DATETIME(3) NULL, state VARCHAR(10) NOT NULL, first_seen_at ${AT}, opened_at DATETIME(3) NULL, gone_since DATETIME(3) NULL, closed_at DATETIME(3) NULL,
       reminded INT UNSIGNED NOT NULL, returns INT UNSIGNED NOT NULL, acknowledged_by VARCHAR(63) NULL, acknowledged_at DATETIME(3) NULL, assigned_to VARCHAR(63) NULL, snoozed_until DATETIME(3) NULL, revision INT UNSIGNED NOT NULL, UNIQUE KEY (open_key), KEY (state, opened_at), KEY (closed_at)`,
    ),
  ],
  [
    '0086-channels',
    table(
      'channels',
      `id ${ID} PRIMARY KEY, name VARCHAR(63) NOT NULL, kind VARCHAR(10) NOT NULL, recipients TEXT NOT NULL, url VARCHAR(1000) NULL, script VARCHAR(120) NULL, secret_sealed VARBINARY(600) NULL, rule TEXT NOT NULL, enabled TINYINT(1) NOT NULL, revision INT UNSIGNED NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT},
       busy_until DATETIME(3) NULL, failing_since DATETIME(3) NULL, failures INT UNSIGNED NOT NULL, last_at DATETIME(3) NULL, last_says VARCHAR(300) NOT NULL, UNIQUE KEY (name)`,
    ),
  ],
  [
    '0087-notice-deliveries',
    table(
      'notice_deliveries',
      `id ${ID} PRIMARY KEY, notice_id ${ID}, channel_id ${ID}, event VARCHAR(10) NOT NULL, state VARCHAR(10) NOT NULL, created_at ${AT}, next_at ${AT}, says VARCHAR(300) NOT NULL, KEY (channel_id, state, next_at), KEY (notice_id), KEY (state, created_at)`,
    ),
  ],
  // The activity log in chains of hashes. Entries of earlier versions stand in none.
  [
    '0088-history-chained',
    'ALTER TABLE history ADD COLUMN IF NOT EXISTS request_id VARCHAR(40) NULL, ADD COLUMN IF NOT EXISTS address VARCHAR(64) NULL, ADD COLUMN IF NOT EXISTS chain_id BINARY(16) NULL, ADD COLUMN IF NOT EXISTS sequence BIGINT UNSIGNED NULL, ADD COLUMN IF NOT EXISTS hash BINARY(32) NULL',
  ],
  [
    '0089-history-keys',
    'ALTER TABLE history ADD KEY IF NOT EXISTS chained (chain_id, sequence), ADD KEY IF NOT EXISTS kind_at (kind, at), ADD KEY IF NOT EXISTS actor_at (actor, routine, at)',
  ],
  [
    '0090-history-chains',
    table(
      'history_chains',
      `id ${ID} PRIMARY KEY, routine TINYINT(1) NOT NULL, started_at ${AT}, base_sequence BIGINT UNSIGNED NOT NULL, base_hash BINARY(32) NULL, base_proof BINARY(32) NULL, head_sequence BIGINT UNSIGNED NOT NULL, head_hash BINARY(32) NOT NULL, head_proof BINARY(32) NOT NULL`,
    ),
  ],
  [
    '0091-rehearsals',
    table(
      'rehearsals',
      `id ${ID} PRIMARY KEY, scenario VARCHAR(24) NOT NULL, providers TEXT NOT NULL, act TINYINT(1) NOT NULL, state VARCHAR(10) NOT NULL, started_by VARCHAR(63) NOT NULL, started_at ${AT}, ended_at DATETIME(3) NULL, percent INT UNSIGNED NOT NULL, doing VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, busy_until DATETIME(3) NULL, report MEDIUMTEXT CHARACTER SET utf8mb4 NULL, KEY (state)`,
    ),
  ],
  // A key that someone retired did not expire.
  ['0092-retired-keys', 'ALTER TABLE caller_keys ADD COLUMN IF NOT EXISTS retired TINYINT(1) NOT NULL DEFAULT 0'],
  [
    '0093-disk-levels',
    table(
      'disk_levels',
      `id ${ID} PRIMARY KEY, instance_id BINARY(16) NOT NULL, folder VARCHAR(300) CHARACTER SET utf8mb4 NOT NULL, at ${AT}, free_mb BIGINT UNSIGNED NOT NULL, total_mb BIGINT UNSIGNED NOT NULL, KEY (at)`,
    ),
  ],
  [
    '0094-calendar-entries',
    table(
      'calendar_entries',
      `entry_key VARCHAR(190) PRIMARY KEY, summary VARCHAR(300) CHARACTER SET utf8mb4 NOT NULL, at ${AT}, sequence INT UNSIGNED NOT NULL, canceled_at DATETIME(3) NULL, KEY (canceled_at)`,
    ),
  ],
];
