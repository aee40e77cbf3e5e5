import type { Jwk } from "../jose/index.js";
import { methodOf, sendLeg, type Answer, type Leg, type Tools } from "../trace/index.js";
import { signDpopProof, takeNonce } from "./dpop.js";

/**
 * Sends a leg with a proof, and once more where the server wants a nonce in it. Without a key, just sends it.
 *
 * @param prepare makes the leg, each time anew: a client assertion in it may be used once
 */
export async function sendProven(
  tools: Tools,
  prepare: () => Leg | Promise<Leg>,
  key: Jwk | undefined,
  accessToken?: string,
): Promise<Answer> {
  if (!key) return sendLeg(tools, await prepare());
  const send = async () => {
    const leg = await prepare();
    const proof = await signDpopProof(tools, key, {
      method: methodOf(leg),
      url: leg.url,
      ...(accessToken !== undefined && { accessToken }),
    });
    const answer = await sendLeg(tools, { ...leg, headers: { ...leg.headers, dpop: proof.text } });
    return { answer, isWorthRepeating: takeNonce(tools, leg.url, proof, answer) };
  };
  const { answer, isWorthRepeating } = await send();
  return isWorthRepeating ? (await send()).answer : answer;
}
