/* The client for browsers: answers, never rules. It speaks OpenFeature's remote evaluation
   protocol with a browser key, and needs nothing but a browser.

     import { start } from "https://flags.pinecrest.example/browser/v1/greenlever.js";
     const flags = start({ key: "glb_...", context: { role: "desk" } });
     await flags.ready;
     if (flags.bool("handover-photo", false)) ...

   Or one line in a static page, whose parts with data-flag are then shown where they should be:

     <script type="module" src="https://flags.pinecrest.example/browser/v1/greenlever.js?key=glb_..."></script>
     <section data-flag="handover-photo" hidden> ... </section> */

/** What is known of the unit: a targeting key and attributes. */
export type Context = { targetingKey?: string } & Record<string, unknown>;

export interface Options {
  key: string; // an access key of kind browser
  url?: string; // of the service or an outpost; default: where this module came from
  context?: Context;
  application?: string; // named in usage; default: the page's host
  version?: string; // of the application
  timeout?: number; // milliseconds after which ready does not wait any longer; default 3000
}

export interface Answer {
  key: string;
  value?: unknown;
  variant?: string;
  reason: string; // OpenFeature's
  errorCode?: string;
  source: Source;
}

/** Where the answers in use came from; "fallback": there are none, callers get their fallbacks. */
export type Source = "service" | "page" | "copy" | "fallback";

interface Bulk {
  flags: Omit<Answer, "source">[];
  eventStreams?: { type: string; endpoint: { requestUri: string } }[];
}

const reportEvery = 30_000;
const askEvery = 300_000; // without being told to
const longest = 60_000;

const kept = {
  get: (name: string) => {
    try {
      return localStorage.getItem(name);
    } catch {
      return null; // storage is forbidden here
    }
  },
  set: (name: string, value: string) => {
    try {
      localStorage.setItem(name, value);
    } catch {
      /* it is full or forbidden: the next start waits for the service */
    }
  },
};

/** A stable random key for whoever is not known yet. */
function visitor(): string {
  const had = kept.get("greenlever-visitor");
  if (had) return had;
  const made = Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
  kept.set("greenlever-visitor", made);
  return made;
}

export class Flags {
  /** Settled once there are answers, or after the time limit: then callers get fallbacks. */
  readonly ready: Promise<void>;
  source: Source = "fallback";
  private answers = new Map<string, Answer>();
  private context: Context;
  private url: string;
  private place: string; // where the copy is kept
  private etag = "";
  private round = 0; // of asking: an answer to an older question is dropped
  private failed = 0;
  private asked = 0;
  private counts = new Map<string, { flag: string; variant: string; reason: string; count: number }>();
  private changed = new Set<() => void>();
  private heard = new Set<(a: Answer) => void>();
  private channel?: BroadcastChannel;
  private stream?: EventSource;
  private streamURL = "";
  private holding = false; // this tab has the stream for all
  private closed = new AbortController();
  private timer = 0;

  constructor(private options: Options) {
    this.url = (options.url ?? new URL(import.meta.url).origin).replace(/\/$/, "");
    this.context = options.context ?? {};
    this.place = `greenlever-answers ${this.url} ${options.key}`;
    this.start();
    const first = this.ask();
    this.ready = Promise.race([first, new Promise<void>((done) => setTimeout(done, options.timeout ?? 3000))]);
    const on = { signal: this.closed.signal };
    addEventListener("pagehide", () => this.report(), on);
    document.addEventListener("visibilitychange", () => document.visibilityState === "visible" && Date.now() - this.asked > longest && void this.ask(), on);
    const tick = setInterval(() => this.report(), reportEvery);
    const poll = setInterval(() => void this.ask(), askEvery);
    this.closed.signal.addEventListener("abort", () => {
      clearInterval(tick);
      clearInterval(poll);
      clearTimeout(this.timer);
      this.stream?.close();
      this.channel?.close();
    });
    this.share();
  }

  /** Starts from what the server put into the page, else from the copy of the last visit. */
  private start() {
    const page = document.getElementById("greenlever-answers")?.textContent;
    const copy = kept.get(this.place);
    try {
      if (page) return this.take(JSON.parse(page) as Bulk, "page");
      const had = copy && (JSON.parse(copy) as { of: string; bulk: Bulk });
      if (had && had.of === this.unit()) this.take(had.bulk, "copy");
    } catch {
      /* what cannot be read is as good as nothing */
    }
  }

  private unit(): string {
    const me = visitor();
    return JSON.stringify({ visitor: me, targetingKey: me, ...this.context });
  }

  private take(bulk: Bulk, source: Source) {
    this.answers = new Map(bulk.flags.map((f) => [f.key, { ...f, source }]));
    this.source = source;
    for (const tell of this.changed) tell();
  }

  /** Asks for all answers. Where that fails those at hand stay, and it asks again later. */
  private async ask(): Promise<void> {
    const round = ++this.round;
    const unit = this.unit();
    this.asked = Date.now();
    clearTimeout(this.timer);
    let wait = 0;
    try {
      const res = await fetch(`${this.url}/ofrep/v1/evaluate/flags?counts=own`, {
        method: "POST",
        headers: { "Content-Type": "application/json", Authorization: `Bearer ${this.options.key}`, ...(this.etag && { "If-None-Match": this.etag }) },
        body: `{"context":${unit}}`,
        signal: this.closed.signal,
      });
      if (round !== this.round) return;
      if (res.status === 200) {
        const bulk = (await res.json()) as Bulk;
        if (round !== this.round) return;
        this.etag = res.headers.get("ETag") ?? "";
        const stream = bulk.eventStreams?.find((s) => s.type === "sse");
        this.streamURL = stream ? new URL(stream.endpoint.requestUri, this.url).href : "";
        this.take(bulk, "service");
        kept.set(this.place, JSON.stringify({ of: unit, bulk: { flags: bulk.flags } }));
        this.listen();
      } else if (res.status !== 304) {
        wait = 1000 * (Number(res.headers.get("Retry-After")) || 1);
        throw new Error(String(res.status));
      }
      this.failed = 0;
    } catch {
      if (round !== this.round || this.closed.signal.aborted) return;
      wait = Math.max(wait, Math.min(longest, 1000 * 2 ** this.failed++));
      this.timer = setTimeout(() => void this.ask(), wait * (0.5 + Math.random()));
    }
  }

  /** One tab has the stream open and tells the others; when it closes another one takes over. */
  private share() {
    const name = `greenlever ${this.url} ${this.options.key}`;
    if ("BroadcastChannel" in globalThis) {
      this.channel = new BroadcastChannel(name);
      this.channel.addEventListener("message", () => void this.ask());
    }
    const hold = () => {
      this.holding = true;
      this.listen();
      return new Promise<void>((done) => this.closed.signal.addEventListener("abort", () => done()));
    };
    if (navigator.locks && this.channel) navigator.locks.request(name, { signal: this.closed.signal }, hold).catch(() => {});
    else void hold();
  }

  private listen() {
    if (!this.holding || this.stream || this.streamURL === "") return;
    const stream = new EventSource(this.streamURL);
    this.stream = stream;
    stream.addEventListener("message", (e) => {
      if ((JSON.parse(e.data as string) as { type: string }).type !== "refetchEvaluation") return;
      this.channel?.postMessage("");
      void this.ask();
    });
    stream.addEventListener("error", () => {
      if (stream.readyState !== EventSource.CLOSED) return; // it comes back by itself
      this.stream = undefined;
      this.streamURL = this.etag = ""; // its token has expired: all answers bring a new one
      this.timer = setTimeout(() => void this.ask(), 1000 + Math.random() * 4000);
    });
  }

  /** Tells who the unit is now, or what is known of it now. Answers come anew; those of
      before stay until then, unless it is another unit. */
  async know(context: Context): Promise<void> {
    const other = context.targetingKey !== this.context.targetingKey;
    this.context = context;
    this.etag = "";
    if (other) {
      this.answers.clear();
      this.source = "fallback";
      for (const tell of this.changed) tell();
    }
    await this.ask();
  }

  /** The answer of a flag, whatever its type. Without one callers use their fallbacks. */
  answer(key: string): Answer {
    const a: Answer = this.answers.get(key) ?? { key, reason: "ERROR", errorCode: this.source === "fallback" ? "PROVIDER_NOT_READY" : "FLAG_NOT_FOUND", source: this.source };
    this.count(a);
    return a;
  }

  private count(a: Answer) {
    if (a.variant !== undefined) {
      const id = `${a.key} ${a.variant} ${a.reason}`;
      const c = this.counts.get(id) ?? { flag: a.key, variant: a.variant, reason: a.reason, count: 0 };
      c.count++;
      this.counts.set(id, c);
    }
    for (const hear of this.heard) hear(a);
  }

  private typed<T>(key: string, fits: (v: unknown) => boolean, fallback: T): T {
    const a = this.answer(key);
    return fits(a.value) ? (a.value as T) : fallback;
  }

  bool(key: string, fallback: boolean): boolean {
    return this.typed(key, (v) => typeof v === "boolean", fallback);
  }

  string(key: string, fallback: string): string {
    return this.typed(key, (v) => typeof v === "string", fallback);
  }

  number(key: string, fallback: number): number {
    return this.typed(key, (v) => typeof v === "number", fallback);
  }

  object<T extends object>(key: string, fallback: T): T {
    return this.typed(key, (v) => typeof v === "object" && v !== null, fallback);
  }

  /** Whether a flag gives a variant, or the value true where none is named. */
  gives(key: string, variant?: string): boolean {
    const a = this.answer(key);
    return variant === undefined ? a.value === true : a.variant === variant;
  }

  /** The same for a route, once there are answers: without them a route stays shut. */
  async opens(key: string, variant?: string): Promise<boolean> {
    await this.ready;
    return this.gives(key, variant);
  }

  /** Shows the parts of a page that have data-flag (and data-is, a variant) where the flag
      says so, now and at each change. Write them with the attribute hidden, so that nothing
      wrong is drawn before there are answers. */
  guard(root: ParentNode = document): () => void {
    const show = () => {
      for (const part of root.querySelectorAll<HTMLElement>("[data-flag]")) part.hidden = !this.gives(part.dataset.flag!, part.dataset.is);
    };
    show();
    return this.watch(show);
  }

  /** Calls a function at each change of the answers, until the function that it gives is called. */
  watch(changed: () => void): () => void {
    this.changed.add(changed);
    return () => this.changed.delete(changed);
  }

  /** Calls a function with each answer that was asked for: for monitors. */
  onAnswer(heard: (a: Answer) => void): () => void {
    this.heard.add(heard);
    return () => this.heard.delete(heard);
  }

  private report() {
    if (this.counts.size === 0) return;
    const counts = [...this.counts.values()];
    this.counts.clear();
    void fetch(`${this.url}/browser/v1/report`, {
      method: "POST",
      keepalive: true,
      headers: { "Content-Type": "application/json", Authorization: `Bearer ${this.options.key}` },
      body: JSON.stringify({ application: this.options.application ?? location.host, version: this.options.version ?? "", counts }),
    }).catch(() => {}); // counts of a page are not worth a second try
  }

  /** Ends everything; answers stay as they are. */
  close() {
    this.report();
    this.closed.abort();
  }
}

export function start(options: Options): Flags {
  return new Flags(options);
}

declare global {
  interface Window {
    greenlever?: Flags;
  }
}

const here = new URL(import.meta.url);
const key = here.searchParams.get("key");
if (key) {
  window.greenlever = start({ key, application: here.searchParams.get("application") ?? undefined });
  window.greenlever.guard();
}
