/** The same object, which from now on does not show itself when it is printed, logged or turned to JSON. */
export function conceal<Value extends object>(value: Value): Value {
  const hidden = { value: () => "[hidden]", enumerable: false };
  return Object.defineProperties(value, {
    toJSON: hidden,
    [Symbol.for("nodejs.util.inspect.custom")]: hidden,
  });
}

/** A value that does not show itself: printed, logged or turned to JSON it reads "[hidden]". */
export class Secret {
  readonly #value: string;

  constructor(value: string) {
    this.#value = value;
  }

  /** The value itself, for the one place that sends it. */
  reveal(): string {
    return this.#value;
  }

  toString(): string {
    return "[hidden]";
  }

  toJSON(): string {
    return "[hidden]";
  }

  [Symbol.for("nodejs.util.inspect.custom")](): string {
    return "[hidden]";
  }
}
