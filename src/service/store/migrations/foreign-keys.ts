type OnDelete = 'CASCADE' | 'RESTRICT';

/**
 * What refers to what, by table. CASCADE: the row means nothing without the other one. RESTRICT: deleting the other one would surprise.
 * Tables that renewals, token issuance, counts and results write to have none (docs/decisions/10): their rows are deleted by `connections.remove`
 * and `jobs.remove`, and a practice restore counts those that are left.
 */
const REFERENCES: Readonly<Record<string, readonly [column: string, parent: string, onDelete: OnDelete][]>> = {
  provider_versions: [['provider_id', 'providers', 'CASCADE']],
  clients: [['provider_id', 'providers', 'RESTRICT']],
  client_secrets: [['client_id', 'clients', 'CASCADE']],
  connections: [
    ['client_id', 'clients', 'RESTRICT'],
    ['person_of', 'connections', 'RESTRICT'],
  ],
  connection_labels: [['connection_id', 'connections', 'CASCADE']],
  saved_calls: [['connection_id', 'connections', 'CASCADE']],
  consents: [['connection_id', 'connections', 'CASCADE']],
  jobs: [['connection_id', 'connections', 'RESTRICT']],
  deliveries: [['run_id', 'runs', 'CASCADE']],
  caller_keys: [['caller_id', 'callers', 'CASCADE']],
  caller_identities: [['caller_id', 'callers', 'CASCADE']],
  permissions: [
    ['caller_id', 'callers', 'CASCADE'],
    ['connection_id', 'connections', 'CASCADE'],
  ],
  door_requests: [['caller_id', 'callers', 'CASCADE']],
  door_tokens: [['sign_in_id', 'door_sign_ins', 'CASCADE']],
  event_receivers: [['caller_id', 'callers', 'CASCADE']],
  event_deliveries: [
    ['caller_id', 'callers', 'CASCADE'],
    ['seq', 'person_events', 'CASCADE'],
  ],
  invitations: [
    ['shared_id', 'connections', 'CASCADE'],
    ['connection_id', 'connections', 'CASCADE'],
    ['caller_id', 'callers', 'CASCADE'],
  ],
  invitation_uses: [['invitation_id', 'invitations', 'CASCADE']],
  campaigns: [['shared_id', 'connections', 'CASCADE']],
  campaign_people: [
    ['campaign_id', 'campaigns', 'CASCADE'],
    ['connection_id', 'connections', 'CASCADE'],
  ],
  mails: [['connection_id', 'connections', 'CASCADE']],
  notice_deliveries: [
    ['notice_id', 'notices', 'CASCADE'],
    ['channel_id', 'channels', 'CASCADE'],
  ],
  sessions: [['operator_id', 'operators', 'CASCADE']],
  tickets: [['operator_id', 'operators', 'CASCADE']],
  second_factors: [['operator_id', 'operators', 'CASCADE']],
  recovery_codes: [['operator_id', 'operators', 'CASCADE']],
  loss_reports: [['loss_id', 'losses', 'CASCADE']],
};

const keyOf = (parent: string): string => (parent === 'person_events' ? 'seq' : 'id');

/** Rows that were left without their parent go first; a parent that may not be deleted is never missing. */
export const FOREIGN_KEYS: readonly string[] = Object.entries(REFERENCES).flatMap(([table, references]) => [
  ...references
    .filter(([, , onDelete]) => onDelete === 'CASCADE')
    .map(
      ([column, parent]) =>
        `DELETE c FROM ${table} c LEFT JOIN ${parent} p ON p.${keyOf(parent)} = c.${column} WHERE c.${column} IS NOT NULL AND p.${keyOf(parent)} IS NULL`,
    ),
  `ALTER TABLE ${table} ${references
    .map(
      ([column, parent, onDelete]) =>
        `ADD CONSTRAINT ${table}_${column} FOREIGN KEY IF NOT EXISTS (${column}) REFERENCES ${parent} (${keyOf(parent)}) ON DELETE ${onDelete}`,
    )
    .join(', ')}`,
]);
