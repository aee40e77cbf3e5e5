/** Words on lines of at most `width` characters; one that is longer has a line of its own. */
export function fillLines(words: readonly string[], width: number): readonly string[] {
  const lines: string[] = [];
  for (const word of words) {
    const last = lines.at(-1);
    if (last !== undefined && last !== "" && last.length + 1 + word.length <= width)
      lines[lines.length - 1] = `${last} ${word}`;
    else {
      if (last === "") lines.pop();
      lines.push(word);
    }
  }
  return lines;
}
