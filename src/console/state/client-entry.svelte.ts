import type { Client } from '../../api/clients.ts';
import type { BodyOf } from '../../api/operations.ts';
import type { ClientAssertionAlgorithm } from '../../core/oauth/methods.ts';

type Secret = BodyOf<'addSecret'>;
type Certificate = BodyOf<'makeCertificate'>;

/** What the form for a client's id and secret holds. Runs without a page. */
export class ClientEntry {
  clientId = $state('');
  secret = $state('');
  kind = $state<'secret' | 'password' | 'certificate' | 'key'>('secret');
  label = $state('');
  ends = $state('');
  atOnce = $state(false);
  asIs = $state(false);
  form = $state<'pem' | 'pkcs12' | 'make'>('make');
  password = $state('');
  keyId = $state('');
  algorithm = $state<ClientAssertionAlgorithm | ''>('');
  commonName = $state('');
  keyKind = $state<'RSA-2048' | 'RSA-3072' | 'RSA-4096' | 'P-256' | 'P-384'>('RSA-3072');

  /** Whether anything was entered that can be saved. @param byKey the client authenticates with a key */
  isFilled(byKey: boolean): boolean {
    return this.clientId.trim() !== '' || this.secret !== '' || this.makes(byKey);
  }

  /** A certificate is made here instead of entered. */
  makes(byKey: boolean): boolean {
    return byKey && this.form === 'make' && this.commonName.trim() !== '';
  }

  certificateBody(): Certificate {
    return { common_name: this.commonName.trim(), key: this.keyKind, label: this.label, ends_at: this.#endsAt() };
  }

  secretBody(byKey: boolean): Secret {
    return {
      secret: this.secret,
      kind: this.kind,
      form: byKey && this.form === 'pkcs12' ? 'pkcs12' : 'pem',
      password: this.password,
      label: this.label,
      ends_at: this.#endsAt(),
      at_once: this.atOnce,
      take_as_is: this.asIs,
      ...(byKey && this.keyId.trim() ? { key_id: this.keyId.trim() } : {}),
      ...(byKey && this.algorithm ? { algorithm: this.algorithm } : {}),
    };
  }

  /** What was saved is entered no longer; the choices stay. */
  clear(): void {
    [this.clientId, this.secret, this.label, this.ends, this.password, this.commonName, this.keyId, this.algorithm] = ['', '', '', '', '', '', '', ''];
    [this.atOnce, this.asIs] = [false, false];
  }

  #endsAt(): string | null {
    return this.ends ? new Date(this.ends).toISOString() : null;
  }
}

/** Our name for something, with the provider's own word for it where that is another. */
export const withTheirWord = (words: Client['words'], ours: string, name: string): string =>
  words[ours] && words[ours].toLowerCase() !== name.toLowerCase() ? `${name} (at the provider: ${words[ours]})` : name;
