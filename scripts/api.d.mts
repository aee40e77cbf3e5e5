interface Exported {
  readonly name: string;
  readonly text: string;
}
/** What the package exports, by entry. */
export function readApi(): readonly { readonly entry: string; readonly names: readonly Exported[] }[];
