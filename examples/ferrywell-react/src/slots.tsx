import { useAnswer } from "./use-answer.js";

interface SlotsToday {
  readonly slots: readonly {
    readonly id: number;
    readonly at: string;
    readonly boat: string;
    readonly isFree: boolean;
  }[];
}

/** Signing in asks for reading only; booking asks for more when somebody books. */
export function Slots() {
  const { answer, said, call } = useAnswer<SlotsToday>("/slots");
  return (
    <section className="card">
      <h2>Boats</h2>
      <table>
        <tbody>
          {answer?.slots.map(({ id, at, boat, isFree }) => (
            <tr key={id}>
              <td>{at}</td>
              <td>{boat}</td>
              <td className="number">
                {isFree ? (
                  <button
                    type="button"
                    aria-label={`Book ${boat} at ${at}`}
                    onClick={() => void call(`/slots/${id}`, "POST", `${boat} is yours at ${at}.`)}
                  >
                    Book
                  </button>
                ) : (
                  "booked"
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p role="status">{said}</p>
    </section>
  );
}
