#!/usr/bin/env bash
# Fuzzes every target in turn, each for as long as the first argument says (1m).
# What breaks one is left in its package's testdata, for a test and a mend.
set -euo pipefail
cd "$(dirname "$0")/.."
each=${1:-1m}
failed=
while IFS=: read -r file func; do
  echo "== ${file%/*} ${func#func }"
  go test -run '^$' -fuzz "^${func#func }\$" -fuzztime "$each" "./${file%/*}" | grep -vE '^(fuzz: elapsed.*\)|)$' || failed="$failed ${func#func }"
done < <(grep -roE '^func Fuzz[A-Za-z]+' internal --include='*_test.go' | sort)
[ -z "$failed" ] || { echo "failed:$failed"; exit 1; }
