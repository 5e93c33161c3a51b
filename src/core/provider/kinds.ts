/** The closed lists of a client and its provider, apart from the schemas, so that a command line can offer them without loading those. */

/** Who the client is to the provider. */
export const CLIENT_TYPES = ['web', 'desktop', 'public', 'service_account', 'printed_code'] as const;
export type ClientType = (typeof CLIENT_TYPES)[number];
export const ENVIRONMENTS = ['development', 'sandbox', 'live'] as const;
export type Environment = (typeof ENVIRONMENTS)[number];
/** Who can sign in through a client. */
export const REACHES = ['listed', 'organization', 'anyone'] as const;
export type Reach = (typeof REACHES)[number];
/** Where a client stands in the provider's approval. */
export const APPROVALS = ['not_needed', 'not_requested', 'requested', 'info_requested', 'approved', 'rejected'] as const;
export type Approval = (typeof APPROVALS)[number];
