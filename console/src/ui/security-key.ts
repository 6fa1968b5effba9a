import { call, type Schema } from "../api/client";

type Asked = Schema["KeyAsked"];
type Answer = Schema["KeyAnswer"];

/** Asks the browser for a security key of whoever signs in. */
export async function showKey(name: string, password: string, code: string): Promise<Answer> {
  const asked = await call<Asked>("POST", "/sign-in/key", { name, password, code: code || undefined });
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(asked.options as never);
  const shown = (await navigator.credentials.get({ publicKey })) as PublicKeyCredential;
  return { session: asked.session, response: { ...shown.toJSON() } };
}

/** Has the browser make a security key one's own; the recovery codes are empty if there are some from before. */
export async function addKey(proof: { password: string; code?: string }, label: string) {
  const asked = await call<Asked>("POST", "/me/keys", proof);
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(asked.options as never);
  const made = (await navigator.credentials.create({ publicKey })) as PublicKeyCredential;
  const answer: Answer = { session: asked.session, response: { ...made.toJSON() }, label };
  return call<Schema["FactorRecovery"]>("POST", "/me/keys/answer", answer);
}
