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
export type Context = { targetingKey?: string | undefined } & Record<string, unknown>;

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
const measuredEvery = 5_000; // where something of the unit waits
const mostEvents = 500;
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

/** A stable random key for whoever is not known yet; where storage is forbidden, of this page. */
let me = "";
function visitor(): string {
  me = kept.get("greenlever-visitor") || me;
  if (me) return me;
  me = Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
  kept.set("greenlever-visitor", me);
  return me;
}

/** Whether the service cannot take a value: a number that other languages read as another one, or half
    a character. One such attribute is left out, and spoils no other. */
function odd(v: unknown): boolean {
  if (typeof v === "number") return !(Math.abs(v) <= Number.MAX_SAFE_INTEGER);
  if (typeof v === "string") return !((v as { isWellFormed?: () => boolean }).isWellFormed?.() ?? true);
  return typeof v === "bigint";
}

/** A short sum of who asks, by which a kept copy is known again: what is known of people does not
    stay in the storage of a browser. (FNV-1a, twice, over 32 bits.) */
function sum(text: string): string {
  const one = (seed: number) => {
    let h = seed;
    for (let i = 0; i < text.length; i++) h = Math.imul(h ^ text.charCodeAt(i), 0x01000193);
    return (h >>> 0).toString(16).padStart(8, "0");
  };
  return one(0x811c9dc5) + one(0x9dc5811c);
}

/** Whether there is a page: on a server there is none, and callers get their fallbacks. */
const inPage = typeof document !== "undefined";

export class Flags {
  /** Settled once there are answers of the service's, or it is plain that there will be none, or
      after the time limit: then callers get fallbacks, and answers may still come. */
  readonly ready: Promise<void>;
  /** What is wrong, such as a key that the service does not take; empty while all is well. */
  error = "";
  source: Source = "fallback";
  private answers = new Map<string, Answer>();
  private context: Context;
  private url: string;
  private place: string; // where the copy is kept
  private etag = "";
  private round = 0; // of asking: an answer to an older question is dropped
  private asking = Promise.resolve();
  private failed = 0;
  private asked = 0;
  private counts = new Map<string, { flag: string; variant: string; reason: string; count: number }>();
  private read = new Map<string, { flag: string; variant: string; at: number; told: boolean }>(); // by this unit
  private events: { metric: string; value: number; at: number; id: string }[] = [];
  private changed = new Set<() => void>();
  private heard = new Set<(a: Answer) => void>();
  private wrong = new Set<(why: string) => void>();
  private channel?: BroadcastChannel;
  private stream?: EventSource;
  private streamURL = "";
  private holding = false; // this tab has the stream for all
  private closed = new AbortController();
  private timer: ReturnType<typeof setTimeout> | undefined;
  private settle = () => {};
  private odd = new Set<string>(); // attributes that were left out, and said

  constructor(private options: Options) {
    this.url = (options.url ?? new URL(import.meta.url).origin).replace(/\/$/, "");
    this.context = options.context ?? {};
    this.place = `greenlever-answers ${this.url} ${options.key}`;
    this.ready = new Promise((done) => (this.settle = done));
    if (!inPage) {
      this.settle(); // nobody looks at it here: the page asks for itself
      return;
    }
    this.start();
    setTimeout(this.settle, options.timeout ?? 3000);
    void this.ask();
    const on = { signal: this.closed.signal };
    addEventListener("pagehide", () => this.report(), on);
    document.addEventListener("visibilitychange", () => document.visibilityState === "visible" && Date.now() - this.asked > longest && void this.ask(), on);
    const tick = setInterval(() => this.report(), reportEvery);
    const soon = setInterval(() => this.measured() && this.report(), measuredEvery);
    const poll = setInterval(() => void this.ask(), askEvery);
    this.closed.signal.addEventListener("abort", () => {
      clearInterval(tick);
      clearInterval(poll);
      clearInterval(soon);
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
      if (had && had.of === sum(this.unit())) this.take(had.bulk, "copy");
    } catch {
      /* what cannot be read is as good as nothing */
    }
  }

  private unit(): string {
    const me = visitor();
    const unit = { visitor: me, ...this.context, targetingKey: this.context.targetingKey === undefined ? me : this.context.targetingKey };
    return JSON.stringify(unit, (name, v: unknown) => {
      if (v === unit) return { ...unit, "": undefined }; // an attribute has a name
      if (!odd(v)) return v;
      if (!this.odd.has(name)) console.warn(`greenlever: attribute ${name} is left out: send it as a string that is text`);
      this.odd.add(name);
      return undefined;
    });
  }

  private take(bulk: Bulk, source: Source) {
    this.answers = new Map(bulk.flags.map((f) => [f.key, { ...f, source }]));
    this.source = source;
    for (const tell of this.changed) tell();
  }

  /** Asks for all answers, and is settled once the newest question is: one that began meanwhile counts. */
  private async ask(): Promise<void> {
    let mine = (this.asking = this.once());
    for (;;) {
      await mine;
      if (mine === this.asking) return;
      mine = this.asking;
    }
  }

  /** Where asking fails the answers at hand stay, and it asks again later. */
  private async once(): Promise<void> {
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
        kept.set(this.place, JSON.stringify({ of: sum(unit), bulk: { flags: bulk.flags } }));
        this.listen();
      } else if (res.status !== 304) {
        const said = ((await res.json().catch(() => ({}))) as { detail?: string; errorDetails?: string }) ?? {};
        const why = `the service answers ${res.status}: ${said.detail ?? said.errorDetails ?? res.statusText}`;
        wait = 1000 * (Number(res.headers.get("Retry-After")) || 1);
        if (res.status === 400 || res.status === 401 || res.status === 403) {
          wait = longest; // another try changes nothing soon
          this.settle();
        }
        throw new Error(why);
      }
      this.failed = 0;
      this.fail("");
      this.settle();
    } catch (e) {
      if (round !== this.round || this.closed.signal.aborted) return;
      this.fail(e instanceof Error ? e.message : String(e));
      wait = Math.max(wait, Math.min(longest, 1000 * 2 ** this.failed++));
      this.timer = setTimeout(() => void this.ask(), wait * (0.5 + Math.random()));
    }
  }

  /** Notes what is wrong, and says it once in the page's console. */
  private fail(why: string) {
    if (why === this.error) return;
    this.error = why;
    if (why) console.warn(`greenlever: ${why}; answers are from ${this.source === "fallback" ? "the callers' fallbacks" : `the ${this.source}`}`);
    for (const tell of this.wrong) tell(why);
  }

  /** Calls a function with what is wrong, and with an empty text once all is well again. */
  onError(wrong: (why: string) => void): () => void {
    this.wrong.add(wrong);
    return () => this.wrong.delete(wrong);
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
    const other = (context.targetingKey || "") !== (this.context.targetingKey || "");
    if (inPage && this.measured()) this.report(); // what was read and measured until now is of who it was
    if (other) this.read.clear();
    this.context = context;
    this.etag = "";
    if (other) {
      this.answers.clear();
      this.source = "fallback";
      for (const tell of this.changed) tell();
    }
    if (inPage) await this.ask();
  }

  /** The answer of a flag, whatever its type. Without one callers use their fallbacks. */
  answer(key: string): Answer {
    const a = this.look(key);
    this.count(a);
    return a;
  }

  /** The same answer for who only looks: it does not count as used, and no monitor hears of it. */
  look(key: string): Answer {
    return this.answers.get(key) ?? { key, reason: "ERROR", errorCode: this.source === "fallback" ? "PROVIDER_NOT_READY" : "FLAG_NOT_FOUND", source: this.source };
  }

  private count(a: Answer) {
    if (inPage && a.variant !== undefined) {
      const id = `${a.key} ${a.variant} ${a.reason}`;
      const c = this.counts.get(id) ?? { flag: a.key, variant: a.variant, reason: a.reason, count: 0 };
      c.count++;
      this.counts.set(id, c);
      if (!this.read.has(a.key) && a.source === "service") this.read.set(a.key, { flag: a.key, variant: a.variant, at: Date.now(), told: false });
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

  /** Notes a value of a metric for this unit, such as how long something took in milliseconds. */
  record(metric: string, value: number): void {
    if (inPage && this.events.length < mostEvents) this.events.push({ metric, value, at: Date.now(), id: crypto.randomUUID?.() ?? String(Math.random()) });
  }

  /** Notes whether what a rate counts happened. Both are worth telling: that it did not shows that somebody looks. */
  happened(metric: string, did: boolean): void {
    this.record(metric, did ? 1 : 0);
  }

  /** Whether something of the unit waits to be told. */
  private measured(): boolean {
    return this.events.length > 0 || [...this.read.values()].some((r) => !r.told);
  }

  private report() {
    if (this.counts.size === 0 && !this.measured()) return;
    const counts = [...this.counts.values()];
    this.counts.clear();
    const now = Date.now();
    const read = [...this.read.values()].filter((r) => !r.told);
    for (const r of read) r.told = true;
    const events = this.events.splice(0).map((e) => ({ metric: e.metric, value: e.value, id: e.id, ago: now - e.at }));
    const told = read.map((r) => ({ flag: r.flag, variant: r.variant, ago: now - r.at }));
    void fetch(`${this.url}/browser/v1/report`, {
      method: "POST",
      keepalive: true,
      headers: { "Content-Type": "application/json", Authorization: `Bearer ${this.options.key}` },
      body: `${JSON.stringify({ application: this.options.application ?? location.host, version: this.options.version ?? "", counts, read: told, events }).slice(0, -1)}${told.length + events.length > 0 ? `,"context":${this.unit()}` : ""}}`,
    }).catch(() => {}); // counts of a page are not worth a second try
  }

  /** Ends everything; answers stay as they are. */
  close() {
    if (inPage) this.report();
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
if (key && inPage) {
  window.greenlever = start({ key, application: here.searchParams.get("application") ?? undefined });
  window.greenlever.guard();
}
