#!/usr/bin/env node
// Debian's Firefox as Playwright expects one: it speaks WebDriver BiDi, but for one command that it does not know yet, which
// is answered here. Started in its place, with its arguments; says where it listens as Firefox does.
import { spawn } from "node:child_process";
import { WebSocket, WebSocketServer } from "ws";

/** Which colours a person prefers. Tests that ask for one in Firefox would see the default. */
const unknown = "emulation.setMediaFeaturesOverride";

const [command, ...args] = [process.env.FIREFOX, ...process.argv.slice(2)];
const firefox = spawn(command, args, { stdio: ["ignore", "inherit", "pipe"] });
for (const signal of ["SIGTERM", "SIGINT"]) process.on(signal, () => firefox.kill(signal));
firefox.on("exit", (code) => {
  process.stderr.write(said);
  process.exit(code ?? 1);
});

/** Until Firefox has said where it listens: that line is not for Playwright. */
let said = "";
firefox.stderr.on("data", function read(text) {
  said += text;
  const [, address] = /WebDriver BiDi listening on (ws:\S+)\n/.exec(said) ?? [];
  if (address === undefined) return;
  said = "";
  firefox.stderr.off("data", read).pipe(process.stderr);
  listen(address);
});

function listen(address) {
  const server = new WebSocketServer({ host: "127.0.0.1", port: 0 }, () => {
    process.stderr.write(`WebDriver BiDi listening on ws://127.0.0.1:${server.address().port}\n`);
  });
  server.on("connection", (near, { url }) => {
    const far = new WebSocket(address + url, { perMessageDeflate: false });
    const isOpen = new Promise((resolve) => far.once("open", resolve));
    near.on("message", async (data) => {
      await isOpen;
      const { id, method } = JSON.parse(data);
      if (method === unknown) near.send(JSON.stringify({ type: "success", id, result: {} }));
      else far.send(String(data));
    });
    far.on("message", (data) => near.send(String(data)));
    for (const [one, other] of [
      [near, far],
      [far, near],
    ])
      one.on("close", () => other.close()).on("error", () => other.close());
  });
}
