/** Whether this browser can make and use passkeys here. They want a page that was reached by a name, safely or on this machine. */
export const hasPasskeys = () => typeof PublicKeyCredential !== "undefined" && window.isSecureContext;

/** Has the browser make a passkey by the options that the server has sent (WebAuthn §5.1.3). */
export async function makePasskey(options: unknown) {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options as PublicKeyCredentialCreationOptionsJSON);
  return answer(await navigator.credentials.create({ publicKey }));
}

/** Has the browser show a passkey (WebAuthn §5.1.4). */
export async function showPasskey(options: unknown) {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options as PublicKeyCredentialRequestOptionsJSON);
  return answer(await navigator.credentials.get({ publicKey }));
}

function answer(key: Credential | null): unknown {
  if (!(key instanceof PublicKeyCredential)) throw new Error("The browser has no passkey for Unlatch.");
  return key.toJSON();
}
