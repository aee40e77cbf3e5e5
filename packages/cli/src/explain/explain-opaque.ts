import { fingerprint } from "tenonsaw/trace";
import type { ExplainContext, Explanation } from "./explanation.js";

/** A token whose form is its issuer's business (RFC 6749 section 1.4): nothing can be read from it. */
export async function explainOpaque({ platform }: ExplainContext, token: string): Promise<Explanation> {
  return {
    kind: "opaque token",
    summary: "A token, or a code, that only its issuer can read",
    parts: [
      { name: "fingerprint", value: await fingerprint(platform, token), meaning: "as it stands in a trace" },
      {
        name: "length",
        value: `${token.length} characters`,
        meaning: "no parts joined by dots: it is no JWT",
      },
    ],
    findings: [
      {
        verdict: "careful",
        message:
          "What it is for, and whether it is good, only its issuer knows: APIs ask it by introspection (RFC 7662). If an API wants a JWT here, the token is meant for another API: set `resource` or `audience`. It may be live: keep it out of chats, tickets and web pages.",
      },
    ],
    judgements: [],
  };
}
