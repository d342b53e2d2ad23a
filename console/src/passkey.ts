import { api, take } from "./api/client";
import type { components } from "./api/contract.gen";

type Answer = components["schemas"]["PasskeyAnswer"];
type Json = Record<string, unknown>;

/** Whether this browser has passkeys, and the page is where they can be used: under a host name, over TLS. */
export const passkeysHere =
  typeof PublicKeyCredential !== "undefined" &&
  "parseRequestOptionsFromJSON" in PublicKeyCredential &&
  window.isSecureContext &&
  !/^[\d.]+$|^\[/.test(location.hostname);

const jsonOf = (c: Credential | null) => {
  if (!(c instanceof PublicKeyCredential)) throw new Error("The browser gave no passkey");
  return c.toJSON() as unknown as Json;
};

/** Has the person choose a passkey, which signs the service's challenge. */
export async function answerByPasskey(): Promise<Answer> {
  const { challenge, options } = await take(api.POST("/session/passkey/challenges"));
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(
    options as unknown as PublicKeyCredentialRequestOptionsJSON,
  );
  return { challenge, credential: jsonOf(await navigator.credentials.get({ publicKey })) };
}

/** Has the browser, or a hardware key, make a passkey of that name. */
export async function addPasskey(name: string) {
  const { challenge, options } = await take(api.POST("/passkeys/challenges"));
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    options as unknown as PublicKeyCredentialCreationOptionsJSON,
  );
  const credential = jsonOf(await navigator.credentials.create({ publicKey }));
  return take(api.POST("/passkeys", { body: { name, challenge, credential } }));
}
