import { expect, it } from "vitest";
import { createVisitor } from "tenonsaw-practice";
import { startExample } from "./support/start-example.js";

interface Home {
  readonly connected: readonly { readonly id: string; readonly account: string; readonly name: string }[];
  readonly connectable: readonly { readonly title: string; readonly connectPath: string }[];
  readonly disconnectPath: string;
}

it("an app with a log-in of its own has its members connect companies, and reads their books", async () => {
  const { origin, stop } = await startExample("own-log-in", "ledgerhouse");
  try {
    const visitor = createVisitor();
    const home = () => JSON.parse(visitor.page?.text ?? "") as Home;
    await visitor.open(`${origin}/log-in?member=1`);
    expect(home()).toMatchObject({ connected: [], connectable: [{ title: "Ledgerhouse" }] });
    for (const company of ["Ferrywell Rowing Club", "Ferrywell Boat Hire"]) {
      await visitor.open(origin);
      const [ledgerhouse] = home().connectable;
      await visitor.open(`${origin}${ledgerhouse!.connectPath}?returnTo=/`);
      await visitor.press("Connect Ledgerhouse");
      await visitor.press("Ib");
      await visitor.press(company);
    }
    expect(home().connected.map(({ name }) => name)).toEqual([
      "Ferrywell Boat Hire",
      "Ferrywell Rowing Club",
    ]);
    expect((await visitor.open(`${origin}/books?account=fw-club`)).text).toContain('"amount":120');
    expect((await visitor.open(`${origin}/books`)).text).toContain("(connection.account-unclear)");
    await visitor.open(origin);
    const { connected, disconnectPath } = home();
    const page = await visitor.post(`${origin}${disconnectPath}`, {
      connection: connected[0]!.id,
      returnTo: "/books",
    });
    expect(page.text).toContain('"amount":120');
    const other = createVisitor();
    expect((await other.open(`${origin}/books`)).status).toBe(401);
    await other.open(`${origin}/log-in?member=2`);
    expect((await other.open(`${origin}/books`)).text).toContain("(connection.none)");
  } finally {
    await stop();
  }
});
