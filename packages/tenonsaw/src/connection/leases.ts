import type { Platform } from "../platform/index.js";

/**
 * The right to refresh one grant, within one process: whoever asks while a refresh is under way gets that refresh's
 * result. The form that holds across processes is the store's.
 */
export interface Leases {
  share<Result>(grantName: string, work: () => Promise<Result>): Promise<Result>;
  /** For how many seconds the work under that name has been going on; 0 where there is none. */
  ageOf(grantName: string): number;
}

export function createLeases({ monotonic }: Pick<Platform, "monotonic">): Leases {
  const underway = new Map<string, { readonly result: Promise<unknown>; readonly since: number }>();
  return {
    share<Result>(grantName: string, work: () => Promise<Result>) {
      const running = underway.get(grantName)?.result as Promise<Result> | undefined;
      if (running) return running;
      const result = work().finally(() => underway.delete(grantName));
      underway.set(grantName, { result, since: monotonic() });
      return result;
    },
    ageOf: (grantName) => monotonic() - (underway.get(grantName)?.since ?? monotonic()),
  };
}
