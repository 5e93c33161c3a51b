/** The face of this room: clients. */
export { changeAnswers, showAnswers } from './answers.ts';
export { checkApproval, recordRequest, watchApprovals } from './approvals.ts';
export { checkThumbprint, makeCertificate, publicKeys, showCertificate } from './certificates.ts';
export { chooseScopes, weakerClientFor } from './choose-scopes.ts';
export { addClient, changeClient, checkRedirectUri, confirmOrigins, findClient, listClients, removeClient, showClient } from './clients.ts';
export { changeProvider, previewProvider } from './definition-change.ts';
export { clientPage } from './guide.ts';
export type { ClientParts } from './parts.ts';
export { sortNotes } from './pasted-notes.ts';
export { readyOf } from './ready.ts';
export { addSecret, changeSecret, retireSecret, verifySecret } from './secrets.ts';
