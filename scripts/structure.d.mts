type Imports = ReadonlyMap<string, readonly string[]>;
export function readImports(source?: string): Imports;
export function circlesOf(imports: Imports): readonly (readonly string[])[];
export function structurePicture(imports: Imports): string;
