/**
 * The right to refresh one grant. This form holds within one process: whoever asks while a refresh is under way gets
 * that refresh's result. A form that holds across processes keeps the same shape.
 */
export interface Leases {
  share<Result>(grantName: string, work: () => Promise<Result>): Promise<Result>;
}

export function createLeases(): Leases {
  const underway = new Map<string, Promise<unknown>>();
  return {
    share<Result>(grantName: string, work: () => Promise<Result>) {
      const running = underway.get(grantName) as Promise<Result> | undefined;
      if (running) return running;
      const started = work().finally(() => underway.delete(grantName));
      underway.set(grantName, started);
      return started;
    },
  };
}
