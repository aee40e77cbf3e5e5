// Readies the machine for the tests. As root on Debian it installs what is missing; elsewhere it says what is
// missing, and the tests that need it are skipped and counted. With CI=true a missing part is a failure.
import { spawnSync } from "node:child_process";
import { existsSync, readdirSync } from "node:fs";

const needs = [
  {
    name: "Chromium",
    variable: "CHROMIUM",
    paths: ["/usr/bin/chromium", "/usr/bin/chromium-browser"],
    packages: ["chromium", "fonts-dejavu-core"],
  },
  {
    name: "Chromium without a screen",
    variable: "CHROMIUM_SHELL",
    paths: ["/usr/bin/chromium-headless-shell"],
    packages: ["chromium-headless-shell"],
    // The same browser, with half of the work for this machine.
    isOptional: true,
    without: "Chromium itself is used, which takes longer",
  },
  {
    name: "Firefox",
    variable: "FIREFOX",
    paths: ["/usr/bin/firefox-esr", "/usr/bin/firefox"],
    packages: ["firefox-esr"],
    // A second browser, for a look: where it cannot be had, nothing else is missing.
    isOptional: true,
  },
  {
    name: "nginx",
    variable: "NGINX",
    paths: ["/usr/sbin/nginx"],
    packages: ["nginx", "openssl"],
  },
  {
    name: "Redis",
    variable: "REDIS_SERVER",
    paths: ["/usr/bin/redis-server"],
    packages: ["redis-server"],
  },
  {
    name: "PostgreSQL",
    variable: "POSTGRES_PROGRAMS",
    // Each version has a folder of its own.
    paths: () => list("/usr/lib/postgresql").map((version) => `/usr/lib/postgresql/${version}/bin`),
    packages: ["postgresql"],
  },
  {
    name: "PgBouncer",
    variable: "PGBOUNCER",
    paths: ["/usr/sbin/pgbouncer"],
    packages: ["pgbouncer"],
  },
];

const isRoot = process.getuid?.() === 0;
const isDebian = existsSync("/usr/bin/apt-get");

/** Environment variables that tell the tests where things are. */
export function ready() {
  const found = {};
  for (const need of needs) {
    const path = process.env[need.variable] || find(need) || install(need);
    if (path) found[need.variable] = path;
    else report(need);
  }
  return found;
}

/** Where the programs are that this machine has already; nothing is installed for it. */
export function findPrograms() {
  const found = needs.map((need) => [need.variable, process.env[need.variable] || find(need)]);
  return Object.fromEntries(found.filter(([, path]) => path));
}

function find({ paths }) {
  return (typeof paths === "function" ? paths() : paths).find((path) => existsSync(path));
}

function list(folder) {
  return existsSync(folder) ? readdirSync(folder).sort().reverse() : [];
}

let isUpdated = false;

function install(need) {
  if (!isRoot || !isDebian) return undefined;
  console.log(`ready: installing ${need.name} (${need.packages.join(", ")})`);
  const options = {
    stdio: ["ignore", "ignore", "inherit"],
    env: { ...process.env, DEBIAN_FRONTEND: "noninteractive" },
  };
  // Once: lists that are old name versions that are old, or gone.
  if (!isUpdated) spawnSync("apt-get", ["update"], options);
  isUpdated = true;
  spawnSync("apt-get", ["install", "-y", "--no-install-recommends", ...need.packages], options);
  return find(need);
}

function report({ name, packages, variable, isOptional = false, without = "its tests are skipped" }) {
  console.log(`ready: ${name} is missing; ${without}.`);
  console.log(
    `       Install it (on Debian: apt-get install ${packages.join(" ")}), or set ${variable} to its path.`,
  );
  if (process.env.CI === "true" && !isOptional) {
    console.error(`ready: with CI=true nothing may be missing.`);
    process.exit(1);
  }
}
