/** A mail as a person reads it: plain words, one link, no markup. */
export interface Letter {
  subject: string;
  text: string;
}

const hello = (name: string | null): string => (name === null ? 'Hello,' : `Hello ${oneLine(name)},`);
/** What others wrote stands in one line, so that it cannot pass for a part of the letter. */
const oneLine = (text: string): string => text.replace(/\s+/g, ' ').trim();
const day = (at: number): string => new Date(at).toLocaleDateString('en-US', { day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' });
const END = 'If you did not expect this, delete it. Nothing changes without you.';

export const invitationLetter = (of: { application: string; name: string | null; purpose: string; url: string; expiresAt: number }): Letter => ({
  subject: `${oneLine(of.application)} asks you to connect an account`,
  text: `${hello(of.name)}\n\n${oneLine(of.application)} asks: ${oneLine(of.purpose)}\n\nSee what is requested, and decide:\n${of.url}\n\nThe link is for you alone, and is good until ${day(of.expiresAt)}.\n${END}\n`,
});

interface About {
  name: string | null;
  connection: string;
  url: string;
  host: string;
}
export const lostLetter = ({ name, connection, url, host }: About): Letter => ({
  subject: 'Your connected account no longer works',
  text: `${hello(name)}\n\nThe account that you connected (${connection}, at ${host}) no longer works: the access was withdrawn, or has expired.\n\nReconnect it, or leave it:\n${url}\n\n${END}\n`,
});
export const expiresLetter = ({ name, connection, url, host }: About): Letter => ({
  subject: 'Your connected account expires soon',
  text: `${hello(name)}\n\nThe account that you connected (${connection}, at ${host}) stops working within two weeks, unless you consent again.\n\n${url}\n\n${END}\n`,
});
export const askedLetter = ({ name, connection, url, host, purpose }: About & { purpose: string }): Letter => ({
  subject: 'Please look at your connected account',
  text: `${hello(name)}\n\nThe account that you connected (${connection}, at ${host}) is asked for more: ${oneLine(purpose)}\n\nSee what is requested, and decide:\n${url}\n\n${END}\n`,
});
