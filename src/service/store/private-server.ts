/**
 * What a private server carries out at its start: one database, and one user of it, from loopback. Nobody else gets in, root included.
 * @param password of characters that need no escape in a statement
 */
export const privateServerStart = ({ database, password }: { database: string; password: string }): string =>
  [
    `CREATE DATABASE IF NOT EXISTS ${database} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;`,
    `CREATE OR REPLACE USER rusty_kettle@'127.0.0.1' IDENTIFIED BY '${password}';`,
    "GRANT ALL ON `rusty\\_kettle%`.* TO rusty_kettle@'127.0.0.1';",
    'ALTER USER root@localhost ACCOUNT LOCK;',
    "DELETE FROM mysql.global_priv WHERE User='root' AND Host<>'localhost';",
    'FLUSH PRIVILEGES;',
  ].join('\n');
