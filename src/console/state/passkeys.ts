/** The browser's passkeys (WebAuthn Level 3, §5.1.8 and §5.1.9: options and answers as JSON). */
type Answer = Record<string, unknown>;

interface JsonCredential extends Credential {
  toJSON(): Answer;
}
interface WithJson {
  parseCreationOptionsFromJSON(options: Answer): PublicKeyCredentialCreationOptions;
  parseRequestOptionsFromJSON(options: Answer): PublicKeyCredentialRequestOptions;
}

const json = (): WithJson => {
  const known = (globalThis as { PublicKeyCredential?: unknown }).PublicKeyCredential as WithJson | undefined;
  if (!known || !('parseCreationOptionsFromJSON' in known)) throw new Error('This browser does not offer passkeys here.');
  return known;
};
const answered = (credential: Credential | null): Answer => {
  if (!credential) throw new Error('No passkey was used.');
  return (credential as JsonCredential).toJSON();
};

export const makePasskey = async (options: Answer): Promise<Answer> =>
  answered(await navigator.credentials.create({ publicKey: json().parseCreationOptionsFromJSON(options) }));
export const usePasskey = async (options: Answer): Promise<Answer> =>
  answered(await navigator.credentials.get({ publicKey: json().parseRequestOptionsFromJSON(options) }));
