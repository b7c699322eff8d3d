// The standard's own client for browsers and its hooks for React, on its own provider for remote
// evaluation, which a test drives: `page` has the client, what was heard, and a clock.
import { createRoot } from "react-dom/client";
import { FeatureFlag, OpenFeature, OpenFeatureProvider, ProviderEvents, useBooleanFlagValue, useNumberFlagValue, useObjectFlagValue, useStringFlagDetails } from "@openfeature/react-sdk";
import { OFREPWebProvider } from "@openfeature/ofrep-web-provider";

// Time passes when the test says so: whatever waits for a second and more waits on this clock.
const began = Date.now;
const later = setTimeout;
const forget = clearTimeout;
let ahead = 0;
let last = 0;
const waiting = new Map<number, { at: number; run: () => void }>();
Date.now = () => began() + ahead;
const clock = {
  setTimeout(run: () => void, ms = 0, ...rest: unknown[]) {
    if (ms < 1000) return later(run, ms, ...rest);
    waiting.set(--last, { at: Date.now() + ms, run });
    return last;
  },
  clearTimeout(id?: number) {
    if (!waiting.delete(id!)) forget(id);
  },
};
Object.assign(window, clock);

function passes(ms: number) {
  const end = Date.now() + ms;
  for (;;) {
    const [id, next] = [...waiting].toSorted(([, a], [, b]) => a.at - b.at)[0] ?? [0, undefined];
    if (!next || next.at > end) break;
    waiting.delete(id);
    ahead += Math.max(0, next.at - Date.now());
    next.run();
  }
  ahead += Math.max(0, end - Date.now());
}

const at = new URLSearchParams(location.search);
const heard: string[] = [];
const changed: string[] = [];
const client = OpenFeature.getClient();
for (const event of [ProviderEvents.Ready, ProviderEvents.Error, ProviderEvents.Stale, ProviderEvents.ConfigurationChanged]) {
  client.addHandler(event, (details) => {
    heard.push(event);
    changed.push(...((details as { flagsChanged?: string[] } | undefined)?.flagsChanged ?? []));
  });
}

let visible = true;
Object.defineProperty(document, "visibilityState", { get: () => (visible ? "visible" : "hidden") });
Object.defineProperty(document, "hidden", { get: () => !visible });

const page = {
  client,
  heard,
  changed,
  passes,
  see(yes: boolean) {
    visible = yes;
    document.dispatchEvent(new Event("visibilitychange"));
  },
  ask(flag: string, fallback: unknown) {
    if (typeof fallback === "boolean") return client.getBooleanDetails(flag, fallback);
    if (typeof fallback === "string") return client.getStringDetails(flag, fallback);
    if (typeof fallback === "number") return client.getNumberDetails(flag, fallback);
    return client.getObjectDetails(flag, fallback as object as never);
  },
  know: (context: object) => OpenFeature.setContext(context as never),
  started: false,
};
Object.assign(window, { page });

function Desk() {
  const greeting = useStringFlagDetails("greeting", "fallback");
  return (
    <>
      <p>{useBooleanFlagValue("handover-photo", false) ? "photo on" : "photo off"}</p>
      <p>greeting {greeting.value} as {greeting.reason}</p>
      <p>window of {useNumberFlagValue("pickup-window", 1)} hours</p>
      <p>plan {JSON.stringify(useObjectFlagValue("route-plan", {}))}</p>
      <FeatureFlag flagKey="handover-photo" defaultValue={false}>
        <p>the guarded part</p>
      </FeatureFlag>
    </>
  );
}

await OpenFeature.setContext({ targetingKey: at.get("unit") ?? "desk-1" });
void OpenFeature.setProviderAndWait(new OFREPWebProvider({ baseUrl: at.get("url")!, headers: [["Authorization", `Bearer ${at.get("key")}`]] }))
  .catch((why: unknown) => heard.push(String(why)))
  .finally(() => (page.started = true));
createRoot(document.body.appendChild(document.createElement("main"))).render(
  <OpenFeatureProvider suspendUntilReady={false} suspendWhileReconciling={false}>
    <Desk />
  </OpenFeatureProvider>,
);
