// The display of a locker, in Node with nothing but its standard library: it asks an outpost
// (or the service) by OpenFeature's remote evaluation protocol, shows another estimate the
// moment it changes, and goes on with what it knows while nobody answers.
//
//   GREENLEVER_URL=http://127.0.0.1:8095 GREENLEVER_KEY=gls_... node display.mjs site-12
//   node display.mjs --once site-12      asks once and ends
const url = (process.env.GREENLEVER_URL ?? "http://127.0.0.1:8095").replace(/\/$/, "");
const key = process.env.GREENLEVER_KEY;
if (!key) {
  console.error("set GREENLEVER_KEY to an access key of kind service");
  process.exit(2);
}

/** Flags asks for all answers of one unit, and asks again when it is told to. */
class Flags {
  #answers = new Map();
  #etag = "";
  #stream = "";

  constructor(context) {
    this.context = context;
  }

  /** The answer's value; the fallback where there is none, or one of another type. */
  value(flag, fallback) {
    const answer = this.#answers.get(flag);
    return typeof answer?.value === typeof fallback ? answer.value : fallback;
  }

  /** Asks for all answers; false where nobody answers, and those at hand stay. */
  async ask() {
    try {
      const res = await fetch(`${url}/ofrep/v1/evaluate/flags`, {
        method: "POST",
        headers: { Authorization: `Bearer ${key}`, "Content-Type": "application/json", ...(this.#etag && { "If-None-Match": this.#etag }) },
        body: JSON.stringify({ context: this.context }),
        signal: AbortSignal.timeout(2000),
      });
      if (res.status === 304) return true;
      if (!res.ok) throw new Error(`${res.status} ${await res.text()}`);
      const bulk = await res.json();
      this.#answers = new Map(bulk.flags.map((f) => [f.key, f]));
      this.#etag = res.headers.get("ETag") ?? "";
      const stream = bulk.eventStreams?.find((s) => s.type === "sse");
      this.#stream = stream ? new URL(stream.endpoint.requestUri, url).href : "";
      return true;
    } catch (error) {
      console.error(`not reached, going on with what is known: ${error.message}`);
      return false;
    }
  }

  /** Calls changed now and at each change, for ever. */
  async follow(changed) {
    for (let wait = 500; ; wait = Math.min(wait * 2, 15_000)) {
      this.#etag = ""; // a stream's address lives for minutes: a whole answer brings a new one
      if (await this.ask()) {
        changed();
        try {
          const res = await fetch(this.#stream, { headers: { Accept: "text/event-stream" } });
          if (!res.ok) throw new Error(`the stream answers ${res.status}`);
          wait = 500;
          for await (const line of lines(res.body)) {
            if (line.startsWith("data: ") && JSON.parse(line.slice(6)).type === "refetchEvaluation" && (await this.ask())) changed();
          }
        } catch (error) {
          console.error(`the stream ended: ${error.message}`);
        }
      }
      await new Promise((done) => setTimeout(done, wait * (0.5 + Math.random())));
    }
  }
}

async function* lines(body) {
  let rest = "";
  for await (const text of body.pipeThrough(new TextDecoderStream())) {
    const parts = (rest + text).split("\n");
    rest = parts.pop();
    yield* parts;
  }
}

const once = process.argv.includes("--once");
const site = process.argv.slice(2).find((a) => !a.startsWith("--")) ?? "site-12";
const flags = new Flags({ targetingKey: site, site: { id: site } });
const show = () => console.log(`${site}: estimates are ${flags.value("arrival-estimate", "timetable")}, telemetry every ${flags.value("telemetry-interval", 60)} s`);
if (once) {
  await flags.ask();
  show();
} else {
  await flags.follow(show);
}
