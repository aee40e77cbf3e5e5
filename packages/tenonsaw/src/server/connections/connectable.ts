import { routes } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import type { ProviderEntry } from "../settings/providers.js";

/** A provider whose accounts people can connect. */
export interface Connectable extends ProviderEntry {
  /** Where a form posts `returnTo` to; a GET shows a page with that form. */
  readonly connectPath: string;
}

export function connectableOf({ settings, providers }: Context): readonly Connectable[] {
  return providers.all
    .filter(({ name }) => Object.hasOwn(settings.connections, name))
    .map((entry) => ({ ...entry, connectPath: routes(settings).connect(entry.name) }));
}
