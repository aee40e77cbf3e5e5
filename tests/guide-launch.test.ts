import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { createVisitor } from "tenonsaw-practice";
import { expect, it } from "vitest";
import { freePorts } from "../scripts/servers.mjs";
import { root, start } from "./support/processes.js";

const command = `${root}packages/tenonsaw/bin/tenonsaw.js`;

it("the guide to launches: registered, checked and tried with its own settings, from the host and at the app", async () => {
  const guide = await readFile(`${root}docs/guide-launch.md`, "utf8");
  const settings = /```jsonc\n([\s\S]*?)```/.exec(guide)?.[1] ?? "";
  const example = await readFile(`${root}examples/rowers-health/tenonsaw.config.json`, "utf8");
  expect(JSON.parse(example)).toMatchObject(JSON.parse(`{ ${settings} }`) as object);
  const first = await freePorts(10);
  const origin = `http://localhost:${first}`;
  const folder = await mkdtemp(join(tmpdir(), "launch-"));
  const place = {
    cwd: folder,
    env: { CLINIC_SECRET: "only-for-practice", TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url") },
  };
  const launchUrl = `${origin}/sign-in/launch`;
  const practice = start(
    command,
    ["practice", "--port", String(first + 1), "--launch-url", launchUrl],
    place,
  );
  await practice.waitFor("Ctrl-C");
  const clinic = `http://127.0.0.1:${first + 9}`;
  const text = `{ "origin": "${origin}", ${settings.trim()} }`.replaceAll("http://127.0.0.1:4608", clinic);
  await writeFile(join(folder, "tenonsaw.config.json"), text);
  const run = (...args: string[]) => start(command, args, place);

  const sheet = await run("sheet", "boathouse").finished;
  for (const value of [
    launchUrl,
    `${origin}/sign-in/from/boathouse`,
    `${clinic}/riverside/fhir`,
    "patient/Observation.rs",
  ])
    expect(sheet.output).toContain(value);
  const check = await run("check", "--all").finished;
  expect([check.code, check.output]).toEqual([0, expect.stringContaining("context-ehr-patient")]);

  const visitor = createVisitor();
  const opened = run("try", "boathouse", "--launch", "--call", "record/Patient/rower-jun");
  await opened.waitFor("Open the app from the host now");
  await visitor.open(`${clinic}/riverside/ward/tab?patient=rower-jun`);
  const fromHost = await opened.finished;
  expect([fromHost.code, fromHost.output]).toEqual([
    0,
    expect.stringMatching(/patient +rower-jun[^]*"family":"Oakes"/),
  ]);

  const begun = run("try", "boathouse");
  const shown = await begun.waitFor("Waiting");
  await visitor.open(/http:\/\/127\.0\.0\.1:\d+\/riverside\/authorize\S+/.exec(shown)![0]);
  for (const choice of ["Maren", "Tamsin", "Allow"]) await visitor.press(choice);
  expect((await begun.finished).output).toMatch(/patient +rower-tamsin/);
  const wrong = await run(
    "try",
    "boathouse",
    "--launch",
    `${launchUrl}?iss=https://records.elsewhere.example&launch=x`,
  ).finished;
  expect([wrong.code, wrong.errors]).toEqual([2, expect.stringContaining("launch.host-unknown")]);

  practice.signal("SIGINT");
  await practice.finished;
  await rm(folder, { recursive: true });
});
