// Adds to console/package-lock.json the optional parts for other platforms that npm left
// out because the registry did not serve them here; without them `npm ci` fails elsewhere.
// Run it after every change of the lock.
import { readFileSync, writeFileSync } from "node:fs";

const path = new URL("../console/package-lock.json", import.meta.url);
const lock = JSON.parse(readFileSync(path));
const systems = { darwin: "darwin", win32: "win32", linux: "linux", freebsd: "freebsd", android: "android", openharmony: "openharmony", wasm32: undefined };
const cpus = ["arm64", "x64", "ia32", "riscv64", "s390x", "ppc64", "arm", "wasm32"];
let added = 0;
for (const [owner, entry] of Object.entries(lock.packages)) {
  for (const [name, version] of Object.entries(entry.optionalDependencies ?? {})) {
    if (lock.packages[`node_modules/${name}`] || lock.packages[`${owner}/node_modules/${name}`]) continue;
    const words = name.split("/").pop().split("-");
    const os = words.map((w) => systems[w]).find(Boolean);
    const cpu = cpus.find((c) => words.includes(c)) ?? "x64";
    lock.packages[`node_modules/${name}`] = { version, cpu: [cpu], dev: true, optional: true, ...(os ? { os: [os] } : {}) };
    added++;
  }
}
lock.packages = Object.fromEntries(Object.entries(lock.packages).toSorted(([a], [b]) => (a < b ? -1 : 1)));
writeFileSync(path, `${JSON.stringify(lock, null, 2)}\n`);
console.log(`added ${added} optional entries`);
