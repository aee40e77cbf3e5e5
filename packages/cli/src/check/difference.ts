/** Two texts under each other, and a line that marks from where to where they differ. */
export function markDifference(
  first: string,
  second: string,
  firstName = "expected",
  secondName = "received",
): string {
  let start = 0;
  while (start < first.length && start < second.length && first[start] === second[start]) start += 1;
  let end = 0;
  while (
    end < first.length - start &&
    end < second.length - start &&
    first.at(-1 - end) === second.at(-1 - end)
  )
    end += 1;
  const width = Math.max(firstName.length, secondName.length) + 2;
  const length = Math.max(1, first.length - start - end, second.length - start - end);
  return [
    firstName.padEnd(width) + first,
    secondName.padEnd(width) + second,
    " ".repeat(width + start) + "^".repeat(length),
  ].join("\n");
}

/** The address in a text that is most like `wanted`: shares the most at its beginning and end. */
export function nearestUrl(text: string, wanted: string): string | undefined {
  const found = [...new Set(text.match(/https?:\/\/[^\s"'<>,]+/g) ?? [])].map((url) =>
    url.replace(/[.)]+$/, ""),
  );
  const likeness = (url: string) => {
    let shared = 0;
    while (shared < url.length && url[shared] === wanted[shared]) shared += 1;
    let tail = 0;
    while (tail < url.length - shared && url.at(-1 - tail) === wanted.at(-1 - tail)) tail += 1;
    return shared + tail - Math.abs(url.length - wanted.length);
  };
  // The one that was sent is on the page as well; what is looked for is the one that is registered.
  return found.filter((url) => url !== wanted).sort((left, right) => likeness(right) - likeness(left))[0];
}
