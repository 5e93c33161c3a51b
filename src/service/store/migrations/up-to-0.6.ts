import { AT, ID, type Migration, table } from './statement.ts';

/** Up to version 0.6.0. */
export const UP_TO_0_6: readonly Migration[] = [
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
];
