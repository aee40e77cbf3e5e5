import type { Problem } from "../problem/index.js";
import type { Change, TripWish } from "./token-holder.js";

/** What a page asks its worker for. */
export type WorkerCall =
  | { readonly do: "start" | "now" | "signOut" | "drop" }
  | { readonly do: "begin"; readonly wish: TripWish }
  | { readonly do: "whereOf" | "finish"; readonly url: string }
  | { readonly do: "fetch"; readonly request: FetchAsked };

export interface FetchAsked {
  readonly api: string;
  readonly path: string;
  readonly method: string;
  readonly headers: readonly [string, string][];
  readonly body?: ArrayBuffer;
  /** The subject whom the page was drawn for. */
  readonly madeFor?: string;
}

export interface FetchAnswer extends Pick<Response, "status" | "statusText"> {
  readonly headers: readonly [string, string][];
  readonly body: ReadableStream<Uint8Array> | ArrayBuffer | null;
}

/** From the page. */
export type Asked =
  { readonly id: number; readonly call: WorkerCall } | { readonly id: number; readonly abort: true };

/** From the worker. */
export type Told =
  | { readonly id: number; readonly isHere: true }
  | { readonly id: number; readonly value: unknown }
  | { readonly id: number; readonly problem: Problem; readonly rejected?: string }
  | Change;
