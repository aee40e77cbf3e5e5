import type { Platform } from "../platform/index.js";
import type { SealedBox } from "./sealing.js";

/** Metadata and keys are believed for a day, for the first question of a worker: a reload then costs no more than a renewal. */
const knownSeconds = 86_400;

/**
 * Documents that a provider publishes are asked for once a day, as long as the first answer will do: what is not right is asked
 * for again, and so are keys that are missing. What was read is kept once a sign-in or a renewal has gone well by it.
 */
export function createPublished({
  platform,
  kept,
}: {
  readonly platform: Platform;
  readonly kept: SealedBox;
}) {
  const asked = new Map<string, Published | undefined>();
  return {
    async fetch(url: string, init: RequestInit): Promise<Response> {
      const isPublished = (init.method ?? "GET") === "GET" && !new Headers(init.headers).has("authorization");
      if (!isPublished) return platform.fetch(url, init);
      const isFirst = !asked.has(url);
      const known = isFirst ? ((await kept.get(`published ${url}`)) as Published | undefined) : undefined;
      asked.set(url, undefined);
      const age = platform.now() - (known?.at ?? -Infinity);
      if (known && age >= 0 && age < knownSeconds)
        return new Response(known.text, { headers: { "content-type": known.type } });
      const answer = await platform.fetch(url, init);
      if (answer.status !== 200) return answer;
      const type = answer.headers.get("content-type") ?? "";
      asked.set(url, { text: await answer.clone().text(), type, at: platform.now() });
      return answer;
    },
    async keep(): Promise<void> {
      for (const [url, read] of asked) if (read) await kept.put(`published ${url}`, read);
    },
  };
}

interface Published {
  readonly text: string;
  readonly type: string;
  readonly at: number;
}
