/**
 * A name, and one statement. Landed migrations are never rewritten; each is one re-runnable statement, and only adds, so that old and new replicas
 * can run side by side.
 */
export type Migration = readonly [name: string, statement: string];

export const ID = 'BINARY(16) NOT NULL';
export const AT = 'DATETIME(3) NOT NULL';
export const table = (name: string, body: string) => `CREATE TABLE IF NOT EXISTS ${name} (${body}) ENGINE=InnoDB`;
