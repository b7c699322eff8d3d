#!/bin/bash
# Runs the tests of every module named and closes with how many passed and failed.
set -uo pipefail
passed=0 failed=0 broken=0
# The databases of the tests flush what they write all the time: in memory, where there is plenty, that costs nothing.
memory() { awk '/^MemAvailable/ { print $2 }' /proc/meminfo; }
room() { df --output=avail -k /dev/shm 2>/dev/null | tail -1; }
if [ -z "${TMPDIR:-}" ] && [ "$(memory)" -gt 12000000 ] && [ "0$(room | tr -d " ")" -gt 8000000 ]; then
	scratch=$(mktemp -d /dev/shm/gl-tests-XXXXXX)
	export TMPDIR=$scratch GOTMPDIR=/tmp
fi
out=$(mktemp)
trap 'rm -rf "$out" "${scratch:-$out}"' EXIT
for module in "$@"; do
	race=
	case $module in client | openfeature) race=-race ;; esac # what runs inside applications, on many goroutines
	# Tests of whole services wait more than they compute: three at a time use two cores.
	(cd "$module" && go test $race -parallel 3 -timeout 40m -json ./... 2>&1) >"$out" || broken=1
	passed=$((passed + $(grep -c '"Action":"pass".*"Test":' "$out")))
	now=$(grep -c '"Action":"fail".*"Test":' "$out")
	failed=$((failed + now))
	grep '"Action":"skip".*"Test":' "$out" && broken=1 # nothing is skipped here
	if [ "$now" -gt 0 ] || [ "$broken" = 1 ]; then
		grep -v '"Action":"\(run\|pause\|cont\|start\|pass\)"' "$out" | sed -n 's/.*"Output":"\(.*\)"}$/\1/p; t; /^[^{]/p' | sed 's/\\n$//; s/\\t/\t/g; s/\\"/"/g' | grep -v '^\(=== \|--- PASS\|PASS\|ok \|?  \)' | tail -n 150
	fi
	echo "tested $module" >&2
done
[ "$broken" = 1 ] && [ "$failed" = 0 ] && failed=1
echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
