#!/usr/bin/env bash
# Fuzzes the decoder, the readers of files, of core files, or of what people write: run.sh [INPUTS]
# [decoder|reader|core|words], one process a processor. Needs clang and a built release preset (for the tables).
set -euo pipefail
cd "$(dirname "$0")/../.."
inputs=${1:-1000000}
what=${2:-decoder}
build=build/fuzz
mkdir -p "$build"
[ -f build/release/src/generated/isa_table.inc ] || cmake --build --preset release
flags=(-std=c++20 -O2 -g -fsanitize=fuzzer,address,undefined -fno-sanitize-recover=undefined -Isrc/core
    -Ibuild/release/src/generated)
if [ "$what" = decoder ]; then
  clang++ "${flags[@]}" tests/fuzz/decoder.cpp src/core/isa/*.cpp -o "$build/decoder"
  run=(-max_len=20 -len_control=0)
elif [ "$what" = core ]; then
  # What core files are read with.
  clang++ "${flags[@]}" tests/fuzz/core.cpp src/core/{corefile,binary,base,arch}/*.cpp \
    src/core/state/{registers,extended_area,target}.cpp src/core/isa/register.cpp -lz -llzma -lzstd -o "$build/core"
  mkdir -p "$build/core-seeds" "$build/corpus-core"
  CORE_SEEDS="$build/core-seeds" "$build/core" -runs=0 "$build/corpus-core" > /dev/null 2>&1
  run=("$build/corpus-core" "$build/core-seeds" -max_len=12000 -timeout=20 -rss_limit_mb=3000)
else
  # The core is built in a folder of its own, once; seeds are small files of several compilers and kinds.
  cmake -S . -B build/fuzz-core -G Ninja -DCMAKE_BUILD_TYPE=RelWithDebInfo -DCMAKE_CXX_COMPILER=clang++ -DCMAKE_C_COMPILER=clang \
    -DCMAKE_CXX_FLAGS="-fsanitize=fuzzer-no-link,address,undefined -fno-sanitize-recover=undefined" > /dev/null
  cmake --build build/fuzz-core --target deeptrace_core
  clang++ "${flags[@]}" "tests/fuzz/$what.cpp" build/fuzz-core/src/libdeeptrace_core.a -lz -llzma -lzstd -o "$build/$what"
  seeds=$build/seeds
  mkdir -p "$seeds"
  printf 'struct m { int a : 3; short b[2]; } m = {1}; static inline int t(int a) { return a * 2; }\nint level(int a) { switch (a) { case 0: return 1; case 1: return 7; case 2: return t(a); case 3: return 9; case 4: return 5; } return m.a; }\nint main(void) { return level(m.a); }\n' > "$build/a.c"
  for compiler in gcc clang; do
    for options in "-O0 -gdwarf-5" "-O2 -gdwarf-4 -m32" "-O2 -gdwarf-5 -gz" "-O1 -gdwarf-2" "-O1"; do
      name=$compiler$(tr -d ' ' <<< "$options")
      $compiler $options -c -o "$seeds/$name.o" "$build/a.c"
      $compiler $options -nostdlib -Wl,-e,main -o "$seeds/$name" "$build/a.c"
      strip -o "$seeds/$name.stripped" "$seeds/$name"
    done
  done
  ar rc "$seeds/a.a" "$seeds/gcc-O1.o"
  printf 'at level_sum from hit 2 when a[1] == "x" once: keep (int)a, [u8 b, 3]; expect i32(eax) < -1.5 ? x->y : *p\n' > "$build/words.seed"
  if [ "$what" = words ]; then seeds=$build/words-seeds; mkdir -p "$seeds"; cp "$build/words.seed" "$seeds"; fi
  run=("$build/corpus-$what" "$seeds" -max_len=40000 -timeout=20 -rss_limit_mb=3000)
  mkdir -p "$build/corpus-$what"
fi
for ((i = 0; i < $(nproc); ++i)); do
  "$build/$what" -runs=$((inputs / $(nproc))) -print_final_stats=1 -artifact_prefix="$build/" "${run[@]}" > "$build/log.$i" 2>&1 &
done
status=0
for job in $(jobs -p); do wait "$job" || status=1; done
grep -h -E "number_of_executed_units|ERROR|SUMMARY|timeout" "$build"/log.*
exit $status
