#!/usr/bin/env bash
# Builds what is missing and runs the whole tour on the demo programs. The results are also left as files.
source "$(dirname "$0")/scripts/prepare.sh" demo
result=${1:-demo-result}
build/release/bin/deeptrace demo --replace --save "$result"
