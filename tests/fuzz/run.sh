#!/usr/bin/env bash
# Fuzzes the decoder: run.sh [INPUTS], one process a processor. Needs clang and a built release preset (for the tables).
set -euo pipefail
cd "$(dirname "$0")/../.."
inputs=${1:-1000000}
build=build/fuzz
mkdir -p "$build"
[ -f build/release/src/generated/isa_table.inc ] || cmake --build --preset release
clang++ -std=c++20 -O2 -g -fsanitize=fuzzer,address,undefined -fno-sanitize-recover=undefined -Isrc/core \
  -Ibuild/release/src/generated tests/fuzz/decoder.cpp src/core/isa/*.cpp -o "$build/decoder"
for ((i = 0; i < $(nproc); ++i)); do
  "$build/decoder" -runs=$((inputs / $(nproc))) -max_len=20 -len_control=0 -print_final_stats=1 \
    > "$build/log.$i" 2>&1 &
done
status=0
for job in $(jobs -p); do wait "$job" || status=1; done
grep -h -E "number_of_executed_units|ERROR|SUMMARY" "$build"/log.*
exit $status
