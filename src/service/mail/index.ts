/** The face of this room: mail to people, through the operator's own server. */
export { type Mail, mail } from './mail.ts';
