// The standard's own client for servers, on its own provider for remote evaluation, which a
// test tells what to do: one JSON object on a line in, one out.
import { createInterface } from "node:readline";
import { OpenFeature } from "@openfeature/server-sdk";
import { OFREPProvider } from "@openfeature/ofrep-provider";

const client = OpenFeature.getClient();

const doing = {
  async start({ url, key }) {
    await OpenFeature.setProviderAndWait(new OFREPProvider({ baseUrl: url, headers: { Authorization: `Bearer ${key}` } }));
    return {};
  },
  async ask({ flag, fallback, context }) {
    const details = {
      boolean: () => client.getBooleanDetails(flag, fallback, context),
      string: () => client.getStringDetails(flag, fallback, context),
      number: () => client.getNumberDetails(flag, fallback, context),
      object: () => client.getObjectDetails(flag, fallback, context),
    }[typeof fallback]();
    return details;
  },
};

for await (const line of createInterface({ input: process.stdin })) {
  const said = JSON.parse(line);
  let answer;
  try {
    answer = await doing[said.do](said);
  } catch (why) {
    answer = { threw: String(why) };
  }
  process.stdout.write(`${JSON.stringify(answer)}\n`);
}
