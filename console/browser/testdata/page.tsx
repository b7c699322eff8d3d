// A small page on the hook, which a test drives in a browser.
import * as React from "react";
import { createRoot } from "react-dom/client";
import { start } from "../greenlever";
import { withReact } from "../react";

const { FlagsProvider, useBool, useFlags, useString, Where } = withReact(React);

function Desk() {
  const flags = useFlags();
  return (
    <>
      <p>{useBool("handover-photo", false) ? "photo on" : "photo off"}</p>
      <p>greeting {useString("greeting", "fallback")}</p>
      <Where flag="handover-photo">
        <p>the guarded part</p>
      </Where>
      <button onClick={() => void flags.know({ targetingKey: "desk-2", role: "courier" })}>I am a courier</button>
    </>
  );
}

const at = new URLSearchParams(location.search);
createRoot(document.body.appendChild(document.createElement("main"))).render(
  <React.StrictMode>
    <FlagsProvider flags={start({ key: at.get("key")!, url: at.get("url")!, context: { targetingKey: "desk-1" } })}>
      <Desk />
    </FlagsProvider>
  </React.StrictMode>,
);
