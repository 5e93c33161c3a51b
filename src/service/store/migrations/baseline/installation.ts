import { AT, ID, table } from '../statement.ts';

/** The installation, its replicas, its keys, and what became of times at which the database went back. */
export const INSTALLATION: readonly string[] = [
  table(
    'installations',
    `
      id TINYINT UNSIGNED NOT NULL, installation_id ${ID}, public_url VARCHAR(500) NOT NULL, fingerprint VARCHAR(100) NOT NULL,
      master_key_name CHAR(16) NOT NULL, key_check VARBINARY(200) NOT NULL, held TINYINT(1) NOT NULL DEFAULT 0, created_at ${AT},
      held_why VARCHAR(500) NULL, held_at DATETIME(3) NULL, owned_at DATETIME(3) NULL, answers TEXT NULL,
      activity_key_sealed VARBINARY(300) NULL, master_key_changed_at DATETIME(3) NULL, generation INT UNSIGNED NOT NULL DEFAULT 1,
      restore_id BINARY(16) NULL, former_url VARCHAR(500) NULL, backup_plan TEXT NULL, backup_begun_at DATETIME(3) NULL,
      successor_restore BINARY(16) NULL, successor_generation INT UNSIGNED NULL, moves TINYINT NOT NULL DEFAULT 0,
      practice TINYINT NOT NULL DEFAULT 0, practiced MEDIUMTEXT CHARACTER SET utf8mb4 NULL,
      PRIMARY KEY (id)`,
  ),
  table(
    'replicas',
    `
      life_id ${ID}, instance_id ${ID}, incarnation INT UNSIGNED NOT NULL, roles VARCHAR(100) NOT NULL, started_at ${AT},
      seen_at ${AT}, open_since DATETIME(3) NULL, offset_ms INT NOT NULL, recovered_at DATETIME(3) NULL,
      known_mark BIGINT UNSIGNED NOT NULL DEFAULT 0,
      PRIMARY KEY (life_id), KEY (instance_id), KEY (seen_at)`,
  ),
  table(
    'leases',
    `
      name VARCHAR(60) NOT NULL, owner ${ID}, until ${AT},
      PRIMARY KEY (name)`,
  ),
  table(
    'schema_versions',
    `
      name VARCHAR(100) NOT NULL, at ${AT},
      PRIMARY KEY (name)`,
  ),
  table(
    'changes',
    `
      id ${ID}, at ${AT}, kind VARCHAR(30) NOT NULL, subject VARCHAR(200) NOT NULL,
      PRIMARY KEY (id), KEY (at)`,
  ),
  table(
    'marks',
    `
      instance_id ${ID}, lane TINYINT UNSIGNED NOT NULL, mark BIGINT UNSIGNED NOT NULL,
      PRIMARY KEY (instance_id, lane)`,
  ),
  table(
    'arm_marks',
    `
      instance_id ${ID}, lane TINYINT UNSIGNED NOT NULL, mark BIGINT UNSIGNED NOT NULL,
      PRIMARY KEY (instance_id, lane)`,
  ),
  table(
    'losses',
    `
      id ${ID}, noticed_at ${AT}, noticed_by ${ID}, why VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, ended_at DATETIME(3) NULL,
      ended_by VARCHAR(63) CHARACTER SET utf8mb4 NULL,
      PRIMARY KEY (id), KEY (ended_at)`,
  ),
  table(
    'loss_reports',
    `
      loss_id ${ID}, instance_id ${ID}, at ${AT}, report MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
      PRIMARY KEY (loss_id, instance_id)`,
  ),
  table(
    'data_keys',
    `
      id ${ID}, wrapped VARBINARY(200) NOT NULL, master_key_name CHAR(16) NOT NULL, state VARCHAR(10) NOT NULL,
      seals BIGINT UNSIGNED NOT NULL DEFAULT 0, created_at ${AT},
      PRIMARY KEY (id), KEY (state)`,
  ),
  table(
    'reseals',
    `
      id ${ID}, key_id ${ID}, state VARCHAR(10) NOT NULL, position VARCHAR(300) NOT NULL, done BIGINT UNSIGNED NOT NULL,
      total BIGINT UNSIGNED NOT NULL, started_by VARCHAR(63) NOT NULL, started_at ${AT}, ended_at DATETIME(3) NULL,
      busy_until DATETIME(3) NULL,
      PRIMARY KEY (id)`,
  ),
  table(
    'backups',
    `
      id ${ID}, state VARCHAR(10) NOT NULL, kind VARCHAR(10) NOT NULL, lock_kind VARCHAR(12) NOT NULL, results TINYINT(1) NOT NULL,
      move TINYINT(1) NOT NULL, requested_by VARCHAR(63) NOT NULL, started_at ${AT}, ended_at DATETIME(3) NULL,
      row_count BIGINT UNSIGNED NOT NULL, bytes BIGINT UNSIGNED NOT NULL, file VARCHAR(500) NOT NULL, instance ${ID},
      says VARCHAR(600) CHARACTER SET utf8mb4 NOT NULL, busy_until DATETIME(3) NULL,
      PRIMARY KEY (id), KEY (state)`,
  ),
  table(
    'bundle_objects',
    `
      kind VARCHAR(12) NOT NULL, name VARCHAR(110) NOT NULL, digest CHAR(64) NOT NULL, imported_by VARCHAR(63) NOT NULL,
      imported_at ${AT},
      PRIMARY KEY (kind, name)`,
  ),
  table(
    'disk_levels',
    `
      id ${ID}, instance_id ${ID}, folder VARCHAR(300) CHARACTER SET utf8mb4 NOT NULL, at ${AT}, free_mb BIGINT UNSIGNED NOT NULL,
      total_mb BIGINT UNSIGNED NOT NULL,
      PRIMARY KEY (id), KEY (at)`,
  ),
];
