"""The scale of a locker, in Python with nothing but its standard library: it asks an outpost
(or the service) for one flag before each weighing, by OpenFeature's remote evaluation protocol.

  GREENLEVER_URL=http://127.0.0.1:8095 GREENLEVER_KEY=gls_... python3 scale.py site-12 site-13
"""

import json
import os
import sys
import urllib.error
import urllib.request

URL = os.environ.get("GREENLEVER_URL", "http://127.0.0.1:8095").rstrip("/")
KEY = os.environ.get("GREENLEVER_KEY", "")


def decide(flag, context, fallback, seconds=1.0):
    """The value of a flag for a context; the fallback where there is none of its type."""
    request = urllib.request.Request(
        f"{URL}/ofrep/v1/evaluate/flags/{flag}",
        data=json.dumps({"context": context}).encode(),
        headers={"Authorization": f"Bearer {KEY}", "Content-Type": "application/json"},
        method="POST",
    )
    try:
        with urllib.request.urlopen(request, timeout=seconds) as response:
            answer = json.load(response)
    except (urllib.error.URLError, TimeoutError, ValueError) as error:
        print(f"{flag}: the fallback is used: {error}", file=sys.stderr)
        return fallback
    value = answer.get("value", fallback)
    if isinstance(value, bool) != isinstance(fallback, bool) or not isinstance(value, type(fallback) if not isinstance(fallback, (int, float)) else (int, float)):
        print(f"{flag}: the fallback is used: {value!r} is of another type", file=sys.stderr)
        return fallback
    return value


if __name__ == "__main__":
    if not KEY:
        sys.exit("set GREENLEVER_KEY to an access key of kind service")
    for site in sys.argv[1:] or ["site-12"]:
        every = decide("telemetry-interval", {"targetingKey": site, "site": {"id": site}}, 60)
        chilled = decide("chilled-compartments", {"targetingKey": site, "site": {"id": site, "plan": "plus"}}, False)
        print(f"{site}: telemetry every {every:g} s, {'chilled' if chilled else 'not chilled'}")
