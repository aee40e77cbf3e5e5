import { letGo, type Platform } from "../platform/index.js";

/** What was loaded, and for how many seconds it counts without asking again. */
export interface Loaded<Value> {
  readonly value: Value;
  readonly freshSeconds: number;
}

/** After a failure, and after having been asked again out of turn, nobody is asked for so long, in seconds. */
const coolDownSeconds = 5;
/** What is no longer fresh is waited for so long, in seconds, before what is at hand is gone by. */
const patienceSeconds = 1;
/** The last part of its time, in which it is asked for ahead: nobody waits for what comes meanwhile. */
const aheadShare = 0.2;
/** For so long after it was fresh it is gone by while its source does not answer, in seconds: longer by nothing. */
const mostStaleSeconds = 86_400;

/**
 * What another party publishes and changes at times: loaded when it is first needed, renewed in the background before it has
 * grown old, and gone by for at most a day more while its source is away. By a clock that nobody sets. However many ask,
 * there is one request at a time.
 */
export class KeptFresh<Value> {
  readonly #platform: Pick<Platform, "deadline" | "monotonic">;
  readonly #load: (before: Value | undefined) => Promise<Loaded<Value>>;
  readonly #onFailed: (error: unknown, secondsLeft: number) => void;
  #kept: { readonly value: Value; readonly at: number; readonly freshSeconds: number } | undefined;
  #underway: { readonly work: Promise<Value>; readonly since: number } | undefined;
  #failed: { readonly error: unknown; readonly at: number } | undefined;
  #askedAgainAt = -Infinity;

  /**
   * @param load brings what is newest; is given what is at hand
   * @param onFailed is told of each failure of it while something is at hand, and for how long that may be gone by
   */
  constructor(
    platform: Pick<Platform, "deadline" | "monotonic">,
    load: (before: Value | undefined) => Promise<Loaded<Value>>,
    onFailed: (error: unknown, secondsLeft: number) => void,
  ) {
    this.#platform = platform;
    this.#load = load;
    this.#onFailed = onFailed;
  }

  /** What is at hand, whatever its age. */
  get latest(): Value | undefined {
    return this.#kept?.value;
  }

  /** What may be gone by at once; undefined where somebody has to be asked first. */
  peek(): Value | undefined {
    const kept = this.#kept;
    if (!kept) return undefined;
    const now = this.#platform.monotonic();
    const left = kept.at + kept.freshSeconds - now;
    // What was given by hand counts for ever.
    if (left > kept.freshSeconds * aheadShare || left === Infinity) return kept.value;
    if (this.#isCool(now)) void this.#renew().catch(() => undefined);
    if (left >= 0) return kept.value;
    return this.#isAway(now) && left >= -mostStaleSeconds ? kept.value : undefined;
  }

  /**
   * The same, as soon as it is there.
   *
   * @throws whatever loading throws, where nothing is at hand that may be gone by
   */
  async get(): Promise<Value> {
    const known = this.peek();
    if (known !== undefined) return known;
    const now = this.#platform.monotonic();
    const kept = this.#kept;
    const mayWait = kept && now - kept.at <= kept.freshSeconds + mostStaleSeconds;
    if (mayWait) {
      await this.#patiently(this.#renew());
      return this.latest ?? kept.value;
    }
    if (this.#failed && !this.#isCool(now)) throw this.#failed.error;
    return this.#renew();
  }

  /** Asks out of turn, unless that was done a moment ago. @returns whether there is an answer */
  async askAgain(): Promise<boolean> {
    if (this.#underway === undefined) {
      const now = this.#platform.monotonic();
      if (now - this.#askedAgainAt < coolDownSeconds || !this.#isCool(now)) return false;
      this.#askedAgainAt = now;
    }
    return this.#renew().then(
      () => true,
      () => false,
    );
  }

  #isCool(now: number): boolean {
    return this.#failed === undefined || now - this.#failed.at >= coolDownSeconds;
  }

  /** Whether its source has failed, or keeps everybody waiting. */
  #isAway(now: number): boolean {
    return (
      this.#failed !== undefined || (this.#underway && now - this.#underway.since > patienceSeconds) === true
    );
  }

  async #patiently(work: Promise<Value>): Promise<void> {
    const late = this.#platform.deadline(patienceSeconds);
    const isOver = new Promise<void>((resolve) => late.addEventListener("abort", () => resolve()));
    await Promise.race([work.catch(() => undefined), isOver]);
    letGo(late);
  }

  #renew(): Promise<Value> {
    this.#underway ??= { work: this.#bring(), since: this.#platform.monotonic() };
    return this.#underway.work;
  }

  async #bring(): Promise<Value> {
    const { monotonic } = this.#platform;
    const askedAt = monotonic();
    try {
      const { value, freshSeconds } = await this.#load(this.#kept?.value);
      this.#kept = { value, freshSeconds, at: askedAt };
      this.#failed = undefined;
      return value;
    } catch (error) {
      this.#failed = { error, at: monotonic() };
      const { at, freshSeconds } = this.#kept ?? {};
      if (at !== undefined && freshSeconds !== undefined)
        this.#onFailed(error, Math.max(0, at + freshSeconds + mostStaleSeconds - monotonic()));
      throw error;
    } finally {
      this.#underway = undefined;
    }
  }
}
