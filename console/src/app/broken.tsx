import { useRouteError } from "react-router";
import { Button, Page } from "../ui/controls";

/** Browsers say in words of their own that a piece of script cannot be had. */
const noScript = /dynamically imported module|module script|Unable to preload/i;

/** Broken stands where a page failed; what stands around it still works. */
export function Broken() {
  const error = useRouteError();
  const said = error instanceof Error ? error.message : String(error);
  const script = noScript.test(said);
  return (
    <Page title={script ? "This page has to be loaded anew" : "This page failed"}>
      <p>
        {script
          ? "Its script is not there: the service was upgraded while this tab was open, or cannot be reached now."
          : "That is a fault of the console. The service and the other pages work on."}{" "}
        Edits that are not saved are kept.
      </p>
      {!script && <pre className="overflow-auto rounded border border-line bg-sheet p-3 text-xs">{said}</pre>}
      <Button tone="lever" className="self-start" onClick={() => window.location.reload()}>
        Load it anew
      </Button>
    </Page>
  );
}
