type Child = Node | string | undefined;

/** An element with attributes and children. Text stays text: nothing here reads markup. */
export function element(
  tag: string,
  attributes: Readonly<Record<string, string>> = {},
  ...children: Child[]
) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
  made.append(...children.filter((child) => child !== undefined));
  return made;
}

export function clockTime(seconds: number): string {
  return new Date(seconds * 1000).toLocaleTimeString("en-GB");
}

export function dayAndTime(seconds: number): string {
  return new Date(seconds * 1000).toLocaleString("en-GB", { dateStyle: "long", timeStyle: "short" });
}
