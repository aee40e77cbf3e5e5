import { useCallback, useEffect, useState } from "react";
import { isProblem } from "tenonsaw/problem";
import { usePageSession } from "tenonsaw/react";

interface Answered<Answer> {
  readonly answer: Answer | undefined;
  readonly said: string;
  /** Calls, and shows what is answered; `done` is said then. */
  readonly call: (at: string, method: string, done: string) => Promise<void>;
}

/** What an API answers, called for the person through the server; and what is to be said where it does not. */
export function useAnswer<Answer>(path: string): Answered<Answer> {
  const session = usePageSession();
  const [answer, setAnswer] = useState<Answer>();
  const [said, say] = useState("");
  const call = useCallback(
    async (at: string, method: string, done: string) => {
      try {
        // Where the person has to agree to more first, it waits for them.
        const response = await session.fetch("tidebook", at, { method, wait: true });
        const told = (await response.json()) as Answer & { title?: string };
        if (response.ok) setAnswer(told);
        say(response.ok ? done : (told.title ?? `Tidebook answered with status ${response.status}.`));
      } catch (error) {
        say(isProblem(error) ? error.problem.title : "Tidebook cannot be reached.");
      }
    },
    [session],
  );
  useEffect(() => void call(path, "GET", ""), [call, path]);
  return { answer, said, call };
}
