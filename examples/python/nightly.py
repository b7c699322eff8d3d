"""A job that lives for a second: it asks once whether it may run, and runs or does not.

  GREENLEVER_URL=http://127.0.0.1:8095 GREENLEVER_KEY=gls_... python3 nightly.py site-12

The exit code is 0 where the job ran, 3 where the flag says no, and 3 where nobody answers:
not knowing lets nothing happen.
"""

import sys

from scale import decide

if __name__ == "__main__":
    site = sys.argv[1] if len(sys.argv) > 1 else "site-12"
    if not decide("night-batching", {"targetingKey": site, "site": {"id": site}, "crew_size": 3}, False):
        print(f"{site}: no night round")
        sys.exit(3)
    print(f"{site}: night round planned")
