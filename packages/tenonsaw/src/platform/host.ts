/** Of Node's process, what is used of it. */
export interface HostProcess {
  readonly env?: Readonly<Record<string, string | undefined>>;
  readonly execArgv?: readonly string[];
  readonly allowedNodeEnvironmentFlags?: { has(flag: string): boolean };
  readonly getBuiltinModule?: (name: string) => unknown;
}

/** Node's process, or an empty stand-in elsewhere. */
export function host(): HostProcess {
  return (globalThis as { process?: HostProcess }).process ?? {};
}
