import { AT, ID, table } from '../statement.ts';

/** Definitions, and clients registered at providers. */
export const PROVIDERS: readonly string[] = [
  table(
    'providers',
    `
      id ${ID}, name VARCHAR(41) NOT NULL, title VARCHAR(80) NOT NULL, version_id ${ID}, revision INT UNSIGNED NOT NULL,
      created_at ${AT},
      PRIMARY KEY (id), UNIQUE KEY name (name)`,
  ),
  table(
    'provider_versions',
    `
      id ${ID}, provider_id ${ID}, document MEDIUMTEXT NOT NULL, digest CHAR(64) NOT NULL, created_at ${AT},
      created_by VARCHAR(63) NOT NULL,
      PRIMARY KEY (id), KEY (provider_id)`,
  ),
  table(
    'clients',
    `
      id ${ID}, provider_id ${ID}, name VARCHAR(41) NOT NULL, title VARCHAR(80) NOT NULL, environment VARCHAR(20) NOT NULL,
      client_id VARCHAR(500) NULL, placeholders TEXT NOT NULL, redirect_uri VARCHAR(1000) NOT NULL, stage VARCHAR(20) NOT NULL,
      approval VARCHAR(20) NOT NULL, reach VARCHAR(20) NOT NULL, health VARCHAR(20) NOT NULL, next_try_at DATETIME(3) NULL,
      evidence VARCHAR(500) NULL, revision INT UNSIGNED NOT NULL, created_at ${AT}, held_until DATETIME(3) NULL,
      type VARCHAR(20) NOT NULL DEFAULT 'web', auth_method VARCHAR(30) NULL, variant VARCHAR(40) NULL, registered_scopes TEXT NULL,
      listed_accounts TEXT NULL, trusted_origins TEXT NULL, registering MEDIUMTEXT NULL, rehearsal_port SMALLINT UNSIGNED NULL,
      approval_seen_at DATETIME(3) NULL, approval_evidence VARCHAR(500) NULL,
      PRIMARY KEY (id), UNIQUE KEY provider_id (provider_id, name)`,
  ),
  table(
    'client_secrets',
    `
      id ${ID}, client_id ${ID}, kind VARCHAR(20) NOT NULL, sealed VARBINARY(16000) NOT NULL, starts_at ${AT},
      ends_at DATETIME(3) NULL, state VARCHAR(20) NOT NULL, label VARCHAR(80) NOT NULL DEFAULT '', entered_at DATETIME(3) NULL,
      proved_at DATETIME(3) NULL, refused_at DATETIME(3) NULL, refused_why VARCHAR(500) NULL, trying_until DATETIME(3) NULL,
      facts TEXT NULL,
      PRIMARY KEY (id), KEY (client_id), KEY (ends_at)`,
  ),
  table(
    'sightings',
    `
      client_id ${ID}, what VARCHAR(40) NOT NULL, first_at ${AT}, last_at ${AT},
      PRIMARY KEY (client_id, what)`,
  ),
];
