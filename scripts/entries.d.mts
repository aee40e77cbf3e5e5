/** The entries of a package, from its folder. */
export function entriesOf(
  root: string,
): readonly { readonly name: string; readonly output: string; readonly source: string }[];
export function innerEntriesOf(
  root: string,
): readonly { name: string; output: string; source: string; condition: string }[];
