/* Calls pure functions of the console for tests: reads a list of {module, call, args} as JSON, and prints
   what each gives, in order. A function itself as an argument is named by {"module", "name"}. */
import { readFileSync } from "node:fs";
import { rolldown } from "rolldown";

const cases = JSON.parse(readFileSync(0, "utf8"));
const modules = new Map();

async function load(name) {
  if (modules.has(name)) return modules.get(name);
  const bundle = await rolldown({ input: new URL(`src/${name}.ts`, import.meta.url).pathname, logLevel: "silent" });
  const { output } = await bundle.generate({ format: "esm" });
  const module = await import(`data:text/javascript;base64,${Buffer.from(output[0].code).toString("base64")}`);
  modules.set(name, module);
  return module;
}

const argument = async (a) => (a !== null && typeof a === "object" && "module" in a && "name" in a ? (await load(a.module))[a.name] : a);

const plain = (v) => (v instanceof Map ? Object.fromEntries(v) : v);

// The modules have no place of their own that a stack could name in short.
process.on("uncaughtException", (e) => {
  process.stderr.write(`${e.name}: ${e.message}\n`);
  process.exit(1);
});

const out = [];
for (const c of cases) {
  const module = await load(c.module);
  let given = c.start;
  // A fold is a list of calls, each on what the one before gave.
  for (const args of c.fold ?? [c.args]) {
    const all = await Promise.all(args.map(argument));
    given = module[c.call](...(c.fold ? [given, ...all] : all));
  }
  out.push(plain(given) ?? null);
}
process.stdout.write(JSON.stringify(out));
