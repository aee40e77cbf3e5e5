import type { Platform } from "tenonsaw";
import { callApi } from "../call-api.js";

/** What an API answers to a call without a token; `looked` is that in words. */
export interface BareAnswer {
  readonly answer: Response;
  readonly type: string;
  readonly looked: string;
}

/** @throws platform.unreachable */
export async function callBare(platform: Platform, url: string): Promise<BareAnswer> {
  const answer = await callApi(platform, url, {});
  await answer.body?.cancel();
  const type = answer.headers.get("content-type") ?? "no content type";
  return { answer, type, looked: `GET ${url} without a token: status ${answer.status}, ${type}` };
}
