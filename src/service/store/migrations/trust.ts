import { AT, ID, type Migration, table } from './statement.ts';

/** Operators, keys, backups, bundles, callers without a stored secret. */
const SEALED_DOCUMENTS = [
  ['0115', 'saved_calls', 'call_document_sealed'],
  ['0116', 'jobs', 'settings_sealed'],
  ['0117', 'runs', 'plan_sealed'],
  ['0118', 'channels', 'url_sealed'],
  ['0119', 'event_receivers', 'url_sealed'],
] as const;

export const TRUST: readonly Migration[] = [
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
  // Searches read what changed since the last one.
  [
    '0095-connections-changed-at',
    'ALTER TABLE connections ADD COLUMN IF NOT EXISTS changed_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3) ON UPDATE CURRENT_TIMESTAMP(3), ADD KEY IF NOT EXISTS changed_at (changed_at)',
  ],
  // Managing people is a permission of its own. Whoever could use everything of a connection could do so already.
  ['0110-permissions-people', "ALTER TABLE permissions ADD COLUMN IF NOT EXISTS people VARCHAR(8) NOT NULL DEFAULT 'none'"],
  [
    '0111-permissions-people-kept',
    "UPDATE permissions SET people = 'manage' WHERE people = 'none' AND use_as = 'any' AND COALESCE(methods, '[]') = '[]' AND COALESCE(paths, '[]') = '[]'",
  ],
  // The application that invited a person gets the events about them.
  ['0112-connections-inviting-caller', 'ALTER TABLE connections ADD COLUMN IF NOT EXISTS inviting_caller_id BINARY(16) NULL'],
  ['0113-person-events-caller', 'ALTER TABLE person_events ADD COLUMN IF NOT EXISTS caller_id BINARY(16) NULL'],
  // Each consent that an invitation is used for.
  [
    '0114-invitation-uses',
    table('invitation_uses', `invitation_id ${ID}, consent_id ${ID}, taken_at ${AT}, PRIMARY KEY (invitation_id, consent_id), KEY (consent_id)`),
  ],
  // Values that may be secrets in documents that people write: the document holds `(secret)`, the sealed column beside it the whole one.
  ...SEALED_DOCUMENTS.map(
    ([number, name, column]): Migration => [
      `${number}-${name.replaceAll('_', '-')}-${column.replaceAll('_', '-')}`,
      `ALTER TABLE ${name} ADD COLUMN IF NOT EXISTS ${column} MEDIUMBLOB NULL`,
    ],
  ),
  // How often each replica has saved answers, and armed requests; each statement that runs beside another has a row of its own, so that none waits.
  ['0120-marks', table('marks', `instance_id ${ID}, lane TINYINT UNSIGNED NOT NULL, mark BIGINT UNSIGNED NOT NULL, PRIMARY KEY (instance_id, lane)`)],
  ['0120-arm-marks', table('arm_marks', `instance_id ${ID}, lane TINYINT UNSIGNED NOT NULL, mark BIGINT UNSIGNED NOT NULL, PRIMARY KEY (instance_id, lane)`)],
  ['0121-replicas-known-mark', 'ALTER TABLE replicas ADD COLUMN IF NOT EXISTS known_mark BIGINT UNSIGNED NOT NULL DEFAULT 0'],
  // The database went back: who noticed, and what each replica has put back.
  [
    '0122-losses',
    table(
      'losses',
      `id ${ID} PRIMARY KEY, noticed_at ${AT}, noticed_by ${ID}, why VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, ended_at DATETIME(3) NULL, ended_by VARCHAR(63) CHARACTER SET utf8mb4 NULL, KEY (ended_at)`,
    ),
  ],
  [
    '0123-loss-reports',
    table('loss_reports', `loss_id ${ID}, instance_id ${ID}, at ${AT}, report MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL, PRIMARY KEY (loss_id, instance_id)`),
  ],
  // A restored copy renews only where it was to move, or an operator says so.
  ['0124-installations-moves', 'ALTER TABLE installations ADD COLUMN IF NOT EXISTS moves TINYINT NOT NULL DEFAULT 0'],
  // Restored for practice; and, at the original, what the last practice restore found.
  ['0125-installations-practice', 'ALTER TABLE installations ADD COLUMN IF NOT EXISTS practice TINYINT NOT NULL DEFAULT 0'],
  ['0126-installations-practiced', 'ALTER TABLE installations ADD COLUMN IF NOT EXISTS practiced MEDIUMTEXT CHARACTER SET utf8mb4 NULL'],
];
