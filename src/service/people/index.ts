/** The face of this room: people who connect their own accounts to a shared connection. */
export { addCampaign, endCampaign, listCampaigns, runCampaigns } from './campaigns.ts';
export { deliverEvents, ownEvents, removeReceiver, replayEvents, setReceiver, showReceiver, showReceiverValues } from './events.ts';
export { inviteByCaller, inviteByOperator, listInvitations, revokeInvitation } from './invitations.ts';
export { personChanged, personConsented, redeem } from './outcome.ts';
export type { PeopleParts, WithConsents } from './parts.ts';
export { disconnectOwnPerson, disconnectPerson, listOwnPeople, listPeople } from './people.ts';
export { back, begin, enter, type Held, leave, look, ownLink, type PersonPage } from './visits.ts';
