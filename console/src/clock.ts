/* The present, by the service's clock: that of a browser may be wrong by hours. */

/** Below this the two are taken to agree: the service tells whole seconds, and answers are under way for a while. */
const tolerated = 5_000;

let ahead = 0;

/** noteClock learns from an answer how far the service's clock is ahead of the browser's, in milliseconds. */
export function noteClock(response: Response) {
  const said = Date.parse(response.headers.get("Date") ?? "");
  if (Number.isNaN(said)) return;
  const by = said + 500 - Date.now();
  ahead = Math.abs(by) < tolerated ? 0 : by;
}

/** clock is the present in milliseconds since 1970. */
export const clock = (): number => Date.now() + ahead;
