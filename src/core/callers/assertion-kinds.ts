/** How callers authenticate without a secret that is stored here. */
export const IDENTITY_KINDS = ['key', 'workload', 'certificate'] as const;
