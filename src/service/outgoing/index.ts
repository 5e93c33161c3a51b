/** The face of this room: outgoing HTTP. */
export { mayBeCalled } from './lookup.ts';
export { type Published, published } from './published.ts';
export { type Outgoing, outgoing } from './send.ts';
export { serverCertificateEnd } from './server-certificate.ts';
export { type Posted, postWebhook } from './webhook.ts';
