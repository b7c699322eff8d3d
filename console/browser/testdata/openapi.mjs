// Holds an OpenAPI document against the specification, by a validator of others'.
import { readFileSync } from "node:fs";
import { createConfig, lintFromString } from "@redocly/openapi-core";

const config = await createConfig({
  extends: ["spec", "minimal"],
  rules: { "info-license": "off", "no-server-example.com": "off", "no-empty-servers": "off", "operation-4xx-response": "error", "operation-operationId-unique": "error", "no-unused-components": "error" },
});
const problems = await lintFromString({ source: readFileSync(process.argv[2], "utf8"), absoluteRef: process.argv[2], config });
for (const p of problems) console.log(`${p.severity} ${p.ruleId}: ${p.message} (${p.location.map((l) => l.pointer).join(", ")})`);
if (problems.length === 0) console.log("no problems");
