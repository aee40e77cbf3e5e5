// What a stranger does to an app, in a process of its own. Told by messages what to do and when to stop; everything goes
// to this machine, and ends with the time it is given.
import { Agent, request } from "node:http";
import { connect } from "node:net";

const origin = process.env.ORIGIN;
const agent = new Agent({ keepAlive: true, maxSockets: 8 });
let endsAt = 0;
const isOver = () => performance.now() > endsAt;

function send(path, { method = "GET", headers = {}, body } = {}) {
  return new Promise((resolve) => {
    const sent = request(origin + path, { method, headers, agent }, (answer) => {
      answer.resume();
      answer.on("end", () => resolve(answer.statusCode));
      answer.on("error", () => resolve(0));
    });
    sent.on("error", () => resolve(0));
    sent.end(body);
  });
}

/** So many at once, again and again. */
async function repeat(lanes, work, most = Infinity) {
  let done = 0;
  const lane = async () => {
    for (; !isOver() && done < most;) {
      done += 1;
      await work(done);
    }
  };
  await Promise.all(Array.from({ length: lanes }, lane));
  return done;
}

/** A body that goes on for as long as it is let. */
function pour(path, megabytes) {
  return new Promise((resolve) => {
    const chunk = Buffer.alloc(256 * 1024, "x");
    const sent = request(origin + path, { method: "POST", headers: { origin } }, (answer) => {
      answer.resume();
      sent.destroy();
    });
    let poured = 0;
    const pump = () => {
      while (!sent.destroyed && poured < megabytes * 4 && sent.write(chunk)) poured += 1;
      if (poured >= megabytes * 4) sent.end();
      else if (!sent.destroyed) sent.once("drain", pump);
    };
    sent.on("error", () => resolve());
    sent.on("close", () => resolve());
    pump();
  });
}

/** A post that says that much is to come, sends a little of it, and waits. */
function dawdle(path) {
  const { port } = new URL(origin);
  return new Promise((resolve) => {
    const socket = connect({ port: Number(port), host: "localhost" }, () => {
      socket.write(
        `POST ${path} HTTP/1.1\r\nHost: localhost:${port}\r\nOrigin: ${origin}\r\nContent-Length: 4000\r\n\r\na=`,
      );
    });
    socket.on("error", () => resolve());
    socket.on("close", () => resolve());
    setTimeout(() => socket.destroy(), Math.max(0, endsAt - performance.now()));
  });
}

const attacks = {
  "bodies of 200 MB": () =>
    repeat(8, (n) => pour(n % 2 ? "/sign-in/back-channel/quayside" : "/sign-in/out", 200)),
  "posts that never end": () => repeat(200, () => dawdle("/sign-in/out")),
  "headers of commas and quotes": () =>
    repeat(8, (n) => {
      const flood = [",", '"\\', "a=b;", "for=1,"][n % 4].repeat(3000).slice(0, 12_000);
      return send("/sign-in", {
        headers: { forwarded: flood, cookie: `x=${flood.replace(/["\\,;]/g, "x").slice(0, 2000)}` },
      });
    }),
  "sign-ins begun": () =>
    repeat(8, (n) => send(`/sign-in/to/quayside?returnTo=/${"x".repeat(n % 390)}`), 100_000),
  "made-up cookies and callbacks": () =>
    repeat(8, (n) =>
      send(`/sign-in/from/quayside?code=c&state=${String(n).padStart(43, "s")}`, {
        headers: {
          cookie: `tenonsaw-session=${String(n).padStart(43, "A")}; tenonsaw-browser=${String(n).padStart(43, "B")}`,
        },
      }),
    ),
};

process.on("message", async ({ attack, seconds }) => {
  endsAt = performance.now() + seconds * 1000;
  const done = await attacks[attack]();
  process.send({ done });
});
process.on("disconnect", () => process.exit(0));
process.send({ attacks: Object.keys(attacks) });
