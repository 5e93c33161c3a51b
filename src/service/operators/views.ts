import type { OperatorSummary, SessionView } from '../../api/operators.ts';
import { iso, isoOrNull } from '../iso.ts';
import type { ListedOperator } from '../store/operators.ts';
import type { SessionRow } from '../store/sessions.ts';

export const sessionView = (row: SessionRow, currentId: string | null): SessionView => ({
  ...{ id: row.id, kind: row.kind, name: row.name, role: row.role, created_at: iso(row.createdAt), ends_at: iso(row.endsAt) },
  ...{ last_used_at: isoOrNull(row.lastUsedAt), address: row.address, agent: row.agent, current: row.id === currentId },
});

export const operatorView = (row: ListedOperator): OperatorSummary => ({
  ...{ name: row.name, role: row.role, labels: row.limits, state: row.state === 'removed' ? 'disabled' : row.state },
  ...{ second_factor: row.factors > 0, source: row.source, sessions: row.sessions, last_seen_at: isoOrNull(row.lastSeenAt) },
  ...{ created_at: iso(row.createdAt), invited_by: row.invitedBy, revision: row.revision },
});
