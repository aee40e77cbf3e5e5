import { useAnswer } from "./use-answer.js";

interface TidesToday {
  readonly place: string;
  readonly tides: readonly { readonly at: number; readonly kind: string; readonly heightMetres: number }[];
}

const clock = new Intl.DateTimeFormat("en-GB", { timeStyle: "short" });

export function Tides() {
  const { answer, said } = useAnswer<TidesToday>("/tides/today");
  return (
    <section className="card">
      <h2>Tides at {answer?.place ?? "…"}</h2>
      <table>
        <tbody>
          {answer?.tides.map(({ at, kind, heightMetres }) => (
            <tr key={at}>
              <td>{clock.format(at * 1000)}</td>
              <td>{kind === "high" ? "High water" : "Low water"}</td>
              <td className="number">{heightMetres.toFixed(1)} m</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p role="status">{said}</p>
    </section>
  );
}
