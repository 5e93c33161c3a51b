/**
 * Landed migrations are never rewritten; each is one re-runnable statement, and only adds, so that old and new replicas
 * can run side by side.
 */
export const ID = 'BINARY(16) NOT NULL';
export const AT = 'DATETIME(3) NOT NULL';
export const table = (name: string, body: string) => `CREATE TABLE IF NOT EXISTS ${name} (${body}) ENGINE=InnoDB`;

export const MIGRATIONS: [name: string, statement: string][] = [
  [
    '0001-installations',
    table(
      'installations',
      `id TINYINT UNSIGNED PRIMARY KEY, installation_id ${ID}, public_url VARCHAR(500) NOT NULL, fingerprint VARCHAR(100) NOT NULL, master_key_name CHAR(16) NOT NULL, key_check VARBINARY(200) NOT NULL, held TINYINT(1) NOT NULL DEFAULT 0, created_at ${AT}`,
    ),
  ],
  [
    '0002-data-keys',
    table(
      'data_keys',
      `id ${ID} PRIMARY KEY, wrapped VARBINARY(200) NOT NULL, master_key_name CHAR(16) NOT NULL, state VARCHAR(10) NOT NULL, seals BIGINT UNSIGNED NOT NULL DEFAULT 0, created_at ${AT}, KEY (state)`,
    ),
  ],
  [
    '0003-replicas',
    table(
      'replicas',
      `life_id ${ID} PRIMARY KEY, instance_id ${ID}, incarnation INT UNSIGNED NOT NULL, roles VARCHAR(100) NOT NULL, started_at ${AT}, seen_at ${AT}, open_since DATETIME(3) NULL, offset_ms INT NOT NULL, KEY (instance_id), KEY (seen_at)`,
    ),
  ],
  ['0004-changes', table('changes', `id ${ID} PRIMARY KEY, at ${AT}, kind VARCHAR(30) NOT NULL, subject VARCHAR(200) NOT NULL, KEY (at)`)],
  [
    '0005-providers',
    table(
      'providers',
      `id ${ID} PRIMARY KEY, name VARCHAR(41) NOT NULL, title VARCHAR(80) NOT NULL, version_id ${ID}, revision INT UNSIGNED NOT NULL, created_at ${AT}, UNIQUE (name)`,
    ),
  ],
  [
    '0006-provider-versions',
    table(
      'provider_versions',
      `id ${ID} PRIMARY KEY, provider_id ${ID}, document MEDIUMTEXT NOT NULL, digest CHAR(64) NOT NULL, created_at ${AT}, created_by VARCHAR(63) NOT NULL, KEY (provider_id)`,
    ),
  ],
  [
    '0007-clients',
    table(
      'clients',
      `id ${ID} PRIMARY KEY, provider_id ${ID}, name VARCHAR(41) NOT NULL, title VARCHAR(80) NOT NULL, environment VARCHAR(20) NOT NULL, client_id VARCHAR(500) NULL, placeholders TEXT NOT NULL, redirect_uri VARCHAR(1000) NOT NULL,
       stage VARCHAR(20) NOT NULL, approval VARCHAR(20) NOT NULL, reach VARCHAR(20) NOT NULL, health VARCHAR(20) NOT NULL, next_try_at DATETIME(3) NULL, evidence VARCHAR(500) NULL,
       revision INT UNSIGNED NOT NULL, created_at ${AT}, UNIQUE (provider_id, name)`,
    ),
  ],
  [
    '0008-client-secrets',
    table(
      'client_secrets',
      `id ${ID} PRIMARY KEY, client_id ${ID}, kind VARCHAR(20) NOT NULL, sealed VARBINARY(16000) NOT NULL, starts_at ${AT}, ends_at DATETIME(3) NULL, state VARCHAR(20) NOT NULL, KEY (client_id), KEY (ends_at)`,
    ),
  ],
  [
    '0009-connections',
    table(
      'connections',
      `id ${ID} PRIMARY KEY, name VARCHAR(63) NOT NULL, client_id ${ID}, intent VARCHAR(20) NOT NULL, current_grant_id BINARY(16) NULL, scopes TEXT NOT NULL, expected_account VARCHAR(200) NULL, labels TEXT NOT NULL, policy VARCHAR(20) NOT NULL,
       revision INT UNSIGNED NOT NULL, created_at ${AT}, UNIQUE (name), KEY (client_id), KEY (intent)`,
    ),
  ],
  [
    '0010-grants',
    table(
      'grants',
      `id ${ID} PRIMARY KEY, connection_id ${ID}, kind VARCHAR(20) NOT NULL, person_key VARCHAR(200) NULL, account_id VARCHAR(300) NULL, account_label VARCHAR(300) NULL, scopes TEXT NOT NULL, consented_by VARCHAR(63) NULL, consented_at ${AT},
       ended_at DATETIME(3) NULL, cause VARCHAR(40) NULL, evidence VARCHAR(500) NULL, proof VARCHAR(20) NOT NULL, proof_answer MEDIUMTEXT NULL, life_ends_at DATETIME(3) NULL, KEY (connection_id), KEY (life_ends_at)`,
    ),
  ],
  [
    '0011-renewals',
    table(
      'renewals',
      `grant_id ${ID} PRIMARY KEY, next_at DATETIME(3) NULL, owner BINARY(16) NULL, claim_id BINARY(16) NULL, epoch BIGINT UNSIGNED NOT NULL, lease_until DATETIME(3) NULL, sent_epoch BIGINT UNSIGNED NULL, sent_by BINARY(16) NULL, sent_at DATETIME(3) NULL,
       uncertain_since DATETIME(3) NULL, uncertain_by BINARY(16) NULL, refused_at DATETIME(3) NULL, generation BIGINT UNSIGNED NOT NULL, parent_generation BIGINT UNSIGNED NULL, saved_epoch BIGINT UNSIGNED NULL,
       failures INT UNSIGNED NOT NULL, ended TINYINT(1) NOT NULL DEFAULT 0, cause VARCHAR(20) NULL, issued_at ${AT}, expires_at ${AT}, KEY (next_at)`,
    ),
  ],
  ['0012-tokens', table('tokens', `grant_id ${ID} PRIMARY KEY, access_sealed BLOB NOT NULL, refresh_sealed BLOB NULL`)],
  [
    '0013-consents',
    table(
      'consents',
      `id ${ID} PRIMARY KEY, ticket_hash BINARY(32) NOT NULL, state_hash BINARY(32) NULL, cookie_hash BINARY(32) NULL, client_id ${ID}, connection_id ${ID}, grant_id ${ID}, verifier_sealed VARBINARY(400) NULL, scopes TEXT NOT NULL, phase VARCHAR(20) NOT NULL,
       opened_by VARCHAR(63) NOT NULL, expires_at ${AT}, finished_at DATETIME(3) NULL, outcome MEDIUMTEXT NOT NULL, UNIQUE (ticket_hash), UNIQUE (state_hash), KEY (expires_at), KEY (connection_id)`,
    ),
  ],
  [
    '0014-history',
    table(
      'history',
      `id ${ID}, at ${AT}, actor VARCHAR(80) NOT NULL, kind VARCHAR(40) NOT NULL, subject VARCHAR(200) NOT NULL, says VARCHAR(600) NOT NULL, data TEXT NOT NULL, PRIMARY KEY (id, at), KEY (subject, at), KEY (at)`,
    ),
  ],
  [
    '0015-usage-minutes',
    table(
      'usage_minutes',
      `caller_id ${ID}, connection_id ${ID}, minute ${AT}, outcome VARCHAR(20) NOT NULL, count INT UNSIGNED NOT NULL, PRIMARY KEY (caller_id, connection_id, minute, outcome), KEY (minute)`,
    ),
  ],
  [
    '0016-callers',
    table(
      'callers',
      `id ${ID} PRIMARY KEY, name VARCHAR(63) NOT NULL, title VARCHAR(80) NOT NULL, caller_id VARCHAR(60) NOT NULL, created_at ${AT}, UNIQUE (name), UNIQUE (caller_id)`,
    ),
  ],
  [
    '0017-caller-keys',
    table(
      'caller_keys',
      `id ${ID} PRIMARY KEY, caller_id ${ID}, label VARCHAR(60) NOT NULL, starts VARCHAR(12) NOT NULL, hash BINARY(32) NOT NULL, starts_at ${AT}, ends_at DATETIME(3) NULL, last_used_at DATETIME(3) NULL, KEY (caller_id)`,
    ),
  ],
  [
    '0018-permissions',
    table('permissions', `id ${ID} PRIMARY KEY, caller_id ${ID}, connection_id ${ID}, UNIQUE (caller_id, connection_id), KEY (connection_id)`),
  ],
  [
    '0019-operators',
    table('operators', `id ${ID} PRIMARY KEY, name VARCHAR(63) NOT NULL, password_hash VARCHAR(300) NOT NULL, created_at ${AT}, UNIQUE (name)`),
  ],
  [
    '0020-sessions',
    table(
      'sessions',
      `id ${ID} PRIMARY KEY, operator_id ${ID}, hash BINARY(32) NOT NULL, kind VARCHAR(10) NOT NULL, created_at ${AT}, ends_at ${AT}, UNIQUE (hash), KEY (ends_at)`,
    ),
  ],
  [
    '0021-tickets',
    table('tickets', `id ${ID} PRIMARY KEY, kind VARCHAR(20) NOT NULL, hash BINARY(32) NOT NULL, ends_at ${AT}, spent_at DATETIME(3) NULL, UNIQUE (hash)`),
  ],
  [
    '0022-spare-tokens',
    table(
      'spare_tokens',
      `grant_id ${ID}, epoch BIGINT UNSIGNED NOT NULL, generation BIGINT UNSIGNED NOT NULL, kind VARCHAR(10) NOT NULL, access_sealed BLOB NOT NULL, refresh_sealed BLOB NULL, issued_at ${AT}, expires_at ${AT}, PRIMARY KEY (grant_id, epoch)`,
    ),
  ],
  ['0023-replicas-recovered', 'ALTER TABLE replicas ADD COLUMN IF NOT EXISTS recovered_at DATETIME(3) NULL'],
  // A client's due rows can be left out of a claim without reading them: the one index of the hot table holds the client too.
  [
    '0024-renewals-client',
    'ALTER TABLE renewals ADD COLUMN IF NOT EXISTS client_id BINARY(16) NOT NULL DEFAULT 0x00000000000000000000000000000000, ADD KEY IF NOT EXISTS next_at_client (next_at, client_id), DROP KEY IF EXISTS next_at',
  ],
  [
    '0025-renewals-client-filled',
    'UPDATE renewals r JOIN grants g ON g.id = r.grant_id JOIN connections k ON k.id = g.connection_id SET r.client_id = k.client_id WHERE r.client_id = 0x00000000000000000000000000000000',
  ],
  ['0026-clients-held', 'ALTER TABLE clients ADD COLUMN IF NOT EXISTS held_until DATETIME(3) NULL'],
  ['0027-connections-used', 'ALTER TABLE connections ADD COLUMN IF NOT EXISTS last_used_at DATETIME(3) NULL'],
  [
    '0028-wire-log',
    table('wire_log', `grant_id ${ID}, n TINYINT UNSIGNED NOT NULL, at ${AT}, class VARCHAR(20) NOT NULL, record TEXT NOT NULL, PRIMARY KEY (grant_id, n)`),
  ],
  [
    '0029-installation-hold',
    'ALTER TABLE installations ADD COLUMN IF NOT EXISTS held_why VARCHAR(500) NULL, ADD COLUMN IF NOT EXISTS held_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS owned_at DATETIME(3) NULL',
  ],
  [
    '0030-clients-kinds',
    "ALTER TABLE clients ADD COLUMN IF NOT EXISTS type VARCHAR(20) NOT NULL DEFAULT 'web', ADD COLUMN IF NOT EXISTS auth_method VARCHAR(30) NULL, ADD COLUMN IF NOT EXISTS variant VARCHAR(40) NULL, ADD COLUMN IF NOT EXISTS registered_scopes TEXT NULL, ADD COLUMN IF NOT EXISTS listed_accounts TEXT NULL, ADD COLUMN IF NOT EXISTS trusted_origins TEXT NULL",
  ],
  [
    '0031-client-secrets-over-time',
    "ALTER TABLE client_secrets ADD COLUMN IF NOT EXISTS label VARCHAR(80) NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS entered_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS proved_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS refused_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS refused_why VARCHAR(500) NULL, ADD COLUMN IF NOT EXISTS trying_until DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS facts TEXT NULL",
  ],
  [
    '0032-connections-kinds',
    "ALTER TABLE connections ADD COLUMN IF NOT EXISTS grant_type VARCHAR(30) NOT NULL DEFAULT 'authorization_code', ADD COLUMN IF NOT EXISTS placeholders TEXT NULL, ADD COLUMN IF NOT EXISTS operations TEXT NULL",
  ],
  ['0033-grants-api', 'ALTER TABLE grants ADD COLUMN IF NOT EXISTS api_base_url VARCHAR(1000) NULL'],
  ['0034-clients-registering', 'ALTER TABLE clients ADD COLUMN IF NOT EXISTS registering TEXT NULL'],
  [
    '0035-clients-rehearsal-and-approval',
    'ALTER TABLE clients ADD COLUMN IF NOT EXISTS rehearsal_port SMALLINT UNSIGNED NULL, ADD COLUMN IF NOT EXISTS approval_seen_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS approval_evidence VARCHAR(500) NULL',
  ],
  ['0036-installation-answers', 'ALTER TABLE installations ADD COLUMN IF NOT EXISTS answers TEXT NULL'],
  ['0037-clients-registering-longer', 'ALTER TABLE clients MODIFY COLUMN registering MEDIUMTEXT NULL'],
  // A grant knows the client through which it came: a connection may move to another one while the old grant is still in use.
  [
    '0038-grants-client',
    'ALTER TABLE grants ADD COLUMN IF NOT EXISTS client_id BINARY(16) NULL, ADD COLUMN IF NOT EXISTS placeholders TEXT NULL, ADD COLUMN IF NOT EXISTS opened VARCHAR(300) NULL, ADD COLUMN IF NOT EXISTS abilities TEXT NULL, ADD COLUMN IF NOT EXISTS claims TEXT NULL, ADD COLUMN IF NOT EXISTS subject VARCHAR(200) NULL',
  ],
  [
    '0039-connections-standby',
    'ALTER TABLE connections ADD COLUMN IF NOT EXISTS standby_grant_id BINARY(16) NULL, ADD COLUMN IF NOT EXISTS standby_why VARCHAR(20) NULL',
  ],
  [
    '0040-consents-ways',
    "ALTER TABLE consents ADD COLUMN IF NOT EXISTS way VARCHAR(20) NOT NULL DEFAULT 'redirect', ADD COLUMN IF NOT EXISTS facts TEXT NULL, ADD COLUMN IF NOT EXISTS device_sealed VARBINARY(4000) NULL, ADD COLUMN IF NOT EXISTS poll_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS code_hash BINARY(32) NULL, ADD KEY IF NOT EXISTS poll_at (poll_at), ADD KEY IF NOT EXISTS code_hash (code_hash)",
  ],
  [
    '0041-revocations',
    table(
      'revocations',
      `grant_id ${ID} PRIMARY KEY, connection_name VARCHAR(63) NOT NULL, client_id ${ID}, placeholders TEXT NOT NULL, access_sealed BLOB NOT NULL, refresh_sealed BLOB NULL, tries INT UNSIGNED NOT NULL, next_at DATETIME(3) NULL, says VARCHAR(500) NOT NULL, created_at ${AT}, KEY (next_at), KEY (connection_name)`,
    ),
  ],
  ['0042-sightings', table('sightings', `client_id ${ID}, what VARCHAR(40) NOT NULL, first_at ${AT}, last_at ${AT}, PRIMARY KEY (client_id, what)`)],
  [
    '0043-callers-tools',
    'ALTER TABLE callers ADD COLUMN IF NOT EXISTS token_path VARCHAR(200) NULL, ADD COLUMN IF NOT EXISTS redirect_uris TEXT NULL, ADD COLUMN IF NOT EXISTS keeps_no_secret TINYINT(1) NOT NULL DEFAULT 0, ADD UNIQUE KEY IF NOT EXISTS token_path (token_path)',
  ],
  // A permission names a connection, or a label that connections carry.
  [
    '0044-permissions-what',
    "ALTER TABLE permissions MODIFY COLUMN connection_id BINARY(16) NULL, ADD COLUMN IF NOT EXISTS label VARCHAR(63) NULL, ADD COLUMN IF NOT EXISTS use_as VARCHAR(10) NOT NULL DEFAULT 'any', ADD COLUMN IF NOT EXISTS methods TEXT NULL, ADD COLUMN IF NOT EXISTS paths TEXT NULL, ADD COLUMN IF NOT EXISTS share TINYINT UNSIGNED NULL, ADD KEY IF NOT EXISTS label (label), ADD UNIQUE KEY IF NOT EXISTS caller_label (caller_id, label)",
  ],
  ['0045-connection-labels', table('connection_labels', `connection_id ${ID}, label VARCHAR(63) NOT NULL, PRIMARY KEY (connection_id, label), KEY (label)`)],
  [
    '0046-api-sessions',
    table(
      'api_sessions',
      `grant_id ${ID} PRIMARY KEY, version INT UNSIGNED NOT NULL, sealed BLOB NULL, base_url VARCHAR(1000) NULL, issued_at DATETIME(3) NULL, expires_at DATETIME(3) NULL, owner BINARY(16) NULL, lease_until DATETIME(3) NULL`,
    ),
  ],
  [
    '0047-quota-windows',
    table(
      'quota_windows',
      `scope VARCHAR(160) CHARACTER SET ascii NOT NULL, starts_at ${AT}, most INT UNSIGNED NOT NULL, used INT UNSIGNED NOT NULL, held_until DATETIME(3) NULL, PRIMARY KEY (scope, starts_at), KEY (starts_at)`,
    ),
  ],
  [
    '0048-door-requests',
    table(
      'door_requests',
      `id ${ID} PRIMARY KEY, caller_id ${ID}, redirect_uri VARCHAR(1000) NOT NULL, redirect_uri_given TINYINT(1) NOT NULL, state VARCHAR(2000) NULL, challenge VARCHAR(100) NULL, wished VARCHAR(63) NULL, cookie_hash BINARY(32) NOT NULL, phase VARCHAR(20) NOT NULL,
       connection_id BINARY(16) NULL, operator VARCHAR(63) NULL, code_hash BINARY(32) NULL, code_ends_at DATETIME(3) NULL, sign_in_id BINARY(16) NULL, expires_at ${AT}, created_at ${AT}, KEY (code_hash), KEY (expires_at), KEY (caller_id)`,
    ),
  ],
  [
    '0049-door-sign-ins',
    table(
      'door_sign_ins',
      `id ${ID} PRIMARY KEY, caller_id ${ID}, connection_id ${ID}, operator VARCHAR(63) NOT NULL, created_at ${AT}, last_used_at DATETIME(3) NULL, ended_at DATETIME(3) NULL, ended_why VARCHAR(40) NULL, KEY (caller_id), KEY (connection_id)`,
    ),
  ],
  [
    '0050-door-tokens',
    table(
      'door_tokens',
      `hash BINARY(32) PRIMARY KEY, sign_in_id ${ID}, kind VARCHAR(10) NOT NULL, created_at ${AT}, ends_at ${AT}, spent_at DATETIME(3) NULL, KEY (sign_in_id), KEY (ends_at)`,
    ),
  ],
  [
    '0051-saved-calls',
    table(
      'saved_calls',
      `id ${ID} PRIMARY KEY, connection_id ${ID}, name VARCHAR(63) NOT NULL, call_document MEDIUMTEXT NOT NULL, saved_by VARCHAR(63) NOT NULL, saved_at ${AT}, UNIQUE (connection_id, name)`,
    ),
  ],
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
  // Roles, limits, invitations and second factors of operators. Rows of earlier versions: administrators without limits.
  [
    '0095-operator-roles',
    'ALTER TABLE operators ADD COLUMN IF NOT EXISTS role VARCHAR(20) NULL, ADD COLUMN IF NOT EXISTS limits TEXT NULL, ADD COLUMN IF NOT EXISTS state VARCHAR(12) NULL, ADD COLUMN IF NOT EXISTS source VARCHAR(20) NULL, ADD COLUMN IF NOT EXISTS subject VARCHAR(600) NULL, ADD COLUMN IF NOT EXISTS invited_by VARCHAR(63) NULL, ADD COLUMN IF NOT EXISTS last_seen_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS revision INT UNSIGNED NOT NULL DEFAULT 1',
  ],
  ['0096-operator-subjects', 'ALTER TABLE operators ADD UNIQUE KEY IF NOT EXISTS subject (subject)'],
  [
    '0097-session-facts',
    'ALTER TABLE sessions ADD COLUMN IF NOT EXISTS name VARCHAR(60) NULL, ADD COLUMN IF NOT EXISTS role VARCHAR(20) NULL, ADD COLUMN IF NOT EXISTS confirmed_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS last_used_at DATETIME(3) NULL, ADD COLUMN IF NOT EXISTS address VARCHAR(64) NULL, ADD COLUMN IF NOT EXISTS agent VARCHAR(200) NULL, ADD COLUMN IF NOT EXISTS identity_session VARCHAR(200) NULL, ADD KEY IF NOT EXISTS operator_id (operator_id)',
  ],
  [
    '0098-ticket-facts',
    'ALTER TABLE tickets ADD COLUMN IF NOT EXISTS operator_id BINARY(16) NULL, ADD COLUMN IF NOT EXISTS data TEXT NULL, ADD COLUMN IF NOT EXISTS tries INT UNSIGNED NOT NULL DEFAULT 0',
  ],
  [
    '0099-second-factors',
    table(
      'second_factors',
      `id ${ID} PRIMARY KEY, operator_id ${ID}, kind VARCHAR(16) NOT NULL, name VARCHAR(60) NOT NULL, secret_sealed VARBINARY(400) NULL, credential_id VARBINARY(1024) NULL, public_key VARBINARY(2048) NULL, counter BIGINT UNSIGNED NOT NULL, challenge VARCHAR(200) NULL, verified_at DATETIME(3) NULL, created_at ${AT}, last_used_at DATETIME(3) NULL, KEY (operator_id)`,
    ),
  ],
  [
    '0100-recovery-codes',
    table('recovery_codes', `id ${ID} PRIMARY KEY, operator_id ${ID}, hash BINARY(32) NOT NULL, used_at DATETIME(3) NULL, KEY (operator_id)`),
  ],
  // Re-sealing under another data key; the key of the activity log outlives a change of the master key.
  [
    '0101-reseals',
    table(
      'reseals',
      `id ${ID} PRIMARY KEY, key_id ${ID}, state VARCHAR(10) NOT NULL, position VARCHAR(300) NOT NULL, done BIGINT UNSIGNED NOT NULL, total BIGINT UNSIGNED NOT NULL, started_by VARCHAR(63) NOT NULL, started_at ${AT}, ended_at DATETIME(3) NULL, busy_until DATETIME(3) NULL`,
    ),
  ],
  [
    '0102-installation-keys',
    'ALTER TABLE installations ADD COLUMN IF NOT EXISTS activity_key_sealed VARBINARY(300) NULL, ADD COLUMN IF NOT EXISTS master_key_changed_at DATETIME(3) NULL',
  ],
  // Backups, and the fence between an installation and its restored copy.
  [
    '0103-installation-generations',
    'ALTER TABLE installations ADD COLUMN IF NOT EXISTS generation INT UNSIGNED NOT NULL DEFAULT 1, ADD COLUMN IF NOT EXISTS restore_id BINARY(16) NULL, ADD COLUMN IF NOT EXISTS former_url VARCHAR(500) NULL, ADD COLUMN IF NOT EXISTS backup_plan TEXT NULL, ADD COLUMN IF NOT EXISTS backup_begun_at DATETIME(3) NULL',
  ],
  [
    '0104-backups',
    table(
      'backups',
      `id ${ID} PRIMARY KEY, state VARCHAR(10) NOT NULL, kind VARCHAR(10) NOT NULL, lock_kind VARCHAR(12) NOT NULL, results TINYINT(1) NOT NULL, move TINYINT(1) NOT NULL, requested_by VARCHAR(63) NOT NULL, started_at ${AT}, ended_at DATETIME(3) NULL,
       row_count BIGINT UNSIGNED NOT NULL, bytes BIGINT UNSIGNED NOT NULL, file VARCHAR(500) NOT NULL, instance ${ID}, says VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, busy_until DATETIME(3) NULL, KEY (state)`,
    ),
  ],
  [
    '0105-installation-successors',
    'ALTER TABLE installations ADD COLUMN IF NOT EXISTS successor_restore BINARY(16) NULL, ADD COLUMN IF NOT EXISTS successor_generation INT UNSIGNED NULL',
  ],
  [
    '0106-bundle-objects',
    table(
      'bundle_objects',
      `kind VARCHAR(12) NOT NULL, name VARCHAR(110) NOT NULL, digest CHAR(64) NOT NULL, imported_by VARCHAR(63) NOT NULL, imported_at ${AT}, PRIMARY KEY (kind, name)`,
    ),
  ],
  // Callers without a stored secret.
  [
    '0107-caller-identities',
    table(
      'caller_identities',
      `id ${ID} PRIMARY KEY, caller_id ${ID}, kind VARCHAR(12) NOT NULL, label VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL, rule MEDIUMTEXT NOT NULL, created_by VARCHAR(63) NOT NULL, created_at ${AT}, last_used_at DATETIME(3) NULL, KEY (caller_id)`,
    ),
  ],
  ['0108-used-assertions', table('used_assertions', `hash BINARY(32) PRIMARY KEY, until ${AT}, KEY (until)`)],
  // Sign-in with the company's own OpenID Connect provider: one row.
  [
    '0109-identity-providers',
    table(
      'identity_providers',
      `id TINYINT UNSIGNED PRIMARY KEY, title VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL, issuer VARCHAR(500) NOT NULL, client_id VARCHAR(300) NOT NULL, secret_sealed VARBINARY(4000) NULL, scopes TEXT NOT NULL, groups_claim VARCHAR(100) NOT NULL, rules TEXT CHARACTER SET utf8mb4 NOT NULL, changed_by VARCHAR(63) NOT NULL, changed_at ${AT}`,
    ),
  ],
];
