#!/usr/bin/env bash
# What a pipeline does with a model that it has trained: register it, prove it, let it
# climb as far as machines decide, and wait for people for the last rung.
#
#   pipeline.sh MODEL FILE EVALUATION.json TESTS.xml
#
# The server and the token are in INNERLADDER_SERVER and INNERLADDER_TOKEN_FILE.
# It exits 0 when the version is live, 3 when a gate or a person said no, 5 when nobody
# answered in time. When it is run again with the same file it goes on where it was: the
# same content is the same version, and -wait waits for a promotion that is there.
set -euo pipefail
model=$1 file=$2 evaluation=$3 tests=$4
wait_for=${WAIT_FOR:-4h}

# What the reports measured counts; nothing is claimed.
ref=$(innerladder register "$model" -no-code -file "$file" -report "$evaluation" -report "$tests")

for rung in proven rehearsal; do
  # What machines decide is decided at once; a no is no reason to bother people.
  innerladder gate "$ref" -for "$rung" >&2
  innerladder promote "$ref" -to "$rung" -wait -timeout 1m >&2
done
innerladder gate "$ref" -for live -machines-only >&2
innerladder promote "$ref" -to live -why "by the pipeline" -wait -timeout "$wait_for" >&2
echo "$ref"
