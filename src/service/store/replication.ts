import type { Database } from './database.ts';

/** How a database server keeps its copies up to date. */
export interface Replication {
  kind: 'none' | 'galera' | 'synchronous' | 'asynchronous';
  /** Replicas that follow this server. */
  replicas: number;
}

/**
 * *synchronous*: a commit is acknowledged after a replica has it (`AFTER_SYNC`), so that a failover loses nothing. *asynchronous*: a failover loses what
 * the replica had not copied.
 */
export async function replicationOf(database: Pick<Database, 'select'>): Promise<Replication> {
  const rows = await database.select<{ name: string; value: string }>(
    `SELECT LOWER(VARIABLE_NAME) AS name, VARIABLE_VALUE AS value FROM information_schema.GLOBAL_STATUS
     WHERE VARIABLE_NAME IN ('Rpl_semi_sync_master_clients', 'Rpl_semi_sync_master_status', 'Slaves_connected', 'wsrep_cluster_size')
     UNION ALL SELECT LOWER(VARIABLE_NAME), VARIABLE_VALUE FROM information_schema.GLOBAL_VARIABLES WHERE VARIABLE_NAME IN ('rpl_semi_sync_master_wait_point', 'wsrep_on')`,
  );
  const values = new Map(rows.map((row) => [row.name, row.value]));
  const replicas = Number(values.get('slaves_connected') ?? 0);
  if (values.get('wsrep_on') === 'ON' && Number(values.get('wsrep_cluster_size') ?? 0) > 0) return { kind: 'galera', replicas };
  if (replicas === 0) return { kind: 'none', replicas };
  const waits = values.get('rpl_semi_sync_master_status') === 'ON' && Number(values.get('rpl_semi_sync_master_clients') ?? 0) > 0;
  return { kind: waits && values.get('rpl_semi_sync_master_wait_point') === 'AFTER_SYNC' ? 'synchronous' : 'asynchronous', replicas };
}
