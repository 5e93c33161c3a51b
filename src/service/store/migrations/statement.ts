/**
 * A name, and its statements. Landed migrations are never rewritten. Each statement can be run again, and only adds, so that old and new replicas
 * can run side by side.
 */
export type Migration = readonly [name: string, ...statements: readonly string[]];

export const ID = 'BINARY(16) NOT NULL';
export const AT = 'DATETIME(3) NOT NULL';
/** The character set is stated: a server of one's own may have another default. */
export const table = (name: string, body: string) => `CREATE TABLE IF NOT EXISTS ${name} (${body}) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin`;
