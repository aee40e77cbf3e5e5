import { getEventListeners, once } from "node:events";
import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { createPipedFetch } from "tenonsaw/node";

let server: Server;
let origin: string;
/** What the server does with the next request. */
let answer: (incoming: IncomingMessage, outgoing: ServerResponse) => void;

beforeEach(async () => {
  server = createServer((incoming, outgoing) => answer(incoming, outgoing)).listen(0, "localhost");
  await once(server, "listening");
  origin = `http://localhost:${(server.address() as AddressInfo).port}`;
});
afterEach(async () => {
  server.closeAllConnections();
  await new Promise((resolve) => server.close(resolve));
});

describe("createPipedFetch", () => {
  it("sends once more what may be sent twice, where a connection that it kept was closed, and nothing else", async () => {
    const asked: (string | undefined)[] = [];
    const used = new WeakSet<object>();
    answer = ({ method, socket }, outgoing) => {
      asked.push(method);
      if (used.has(socket)) return void socket.resetAndDestroy();
      used.add(socket);
      outgoing.end("read");
    };
    const piped = createPipedFetch();
    const ask = async (method: string) => {
      const text = await (await piped(origin, { method })).text();
      // The connection is kept from now on.
      await new Promise((resolve) => setImmediate(resolve));
      return text;
    };
    expect([await ask("GET"), await ask("GET")]).toEqual(["read", "read"]);
    await expect(ask("POST")).rejects.toThrow("ECONNRESET");
    expect(asked).toEqual(["GET", "GET", "GET", "POST"]);
  });

  it("sends nothing more where an answer breaks off that has begun", async () => {
    let asked = 0;
    answer = ({ socket }, outgoing) => {
      asked += 1;
      if (asked === 1) return void outgoing.end("read");
      outgoing.writeHead(200, { "content-length": 9 });
      outgoing.write("high", () => setTimeout(() => socket.resetAndDestroy(), 20));
    };
    const piped = createPipedFetch();
    await (await piped(origin, {})).text();
    await new Promise((resolve) => setImmediate(resolve));
    const cut = await piped(origin, {});
    await expect(cut.text()).rejects.toThrow();
    await new Promise((resolve) => setTimeout(resolve, 50));
    expect(asked).toBe(2);
  });

  it("ends with its signal, as the signal says, and leaves nothing with one that stays", async () => {
    const reason = new Error("the page has gone");
    const piped = createPipedFetch();
    answer = () => undefined;
    const gone = new AbortController();
    const waiting = piped(origin, { signal: gone.signal });
    gone.abort(reason);
    await expect(waiting).rejects.toBe(reason);
    await expect(piped(origin, { signal: gone.signal })).rejects.toBe(reason);
    await expect(piped(origin, { signal: AbortSignal.abort("by a word") })).rejects.toThrow("by a word");

    answer = (_, outgoing) => outgoing.end("read");
    const { signal } = new AbortController();
    await (await piped(origin, { signal })).text();
    await expect.poll(() => getEventListeners(signal, "abort")).toEqual([]);
  });

  it("asks for a part of what is not coded, and is not left hanging by another protocol", async () => {
    answer = (incoming, outgoing) => outgoing.end(incoming.headers["accept-encoding"]);
    const piped = createPipedFetch();
    expect(await (await piped(origin, { headers: { range: "bytes=0-3" } })).text()).toBe("identity");
    expect(await (await piped(origin, {})).text()).toBe("gzip, br");
    answer = (incoming) =>
      incoming.socket.write("HTTP/1.1 101 Switching Protocols\r\nconnection: upgrade\r\nupgrade: x\r\n\r\n");
    for (const init of [{}, { method: "POST", body: "Heron" }])
      await expect(piped(origin, init)).rejects.toThrow("status 101");
  });

  it("gives a connection up with an answer that nobody reads", async () => {
    const closed = new Promise<void>((resolve) => {
      answer = (incoming, outgoing) => {
        incoming.socket.once("close", () => resolve());
        outgoing.end(Buffer.alloc(8 * 1024 * 1024));
      };
    });
    expect((await createPipedFetch()(origin, {})).status).toBe(200);
    setFlagsFromString("--expose-gc");
    const collect = runInNewContext("gc") as () => void;
    const collecting = setInterval(collect, 20);
    await closed;
    clearInterval(collecting);
  });
});
