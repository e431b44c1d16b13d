# Sourced by demo.sh and test.sh: installs the packages that are missing and builds the release preset.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

packages=(g++ clang cmake ninja-build python3 git libc6-dev libcxxopts-dev libfmt-dev nlohmann-json3-dev libgtest-dev
    libbenchmark-dev procps gcc-multilib g++-multilib zlib1g-dev libzstd-dev liblzma-dev libgraphviz-dev libcairo2-dev libpango1.0-dev libreadline-dev libncurses-dev libc6-dbg llvm-14
    pkg-config fonts-dejavu-core)
missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
done
if [ "${#missing[@]}" -gt 0 ]; then
  echo "Installing: ${missing[*]}"
  as_root=()
  [ "$(id -u)" -eq 0 ] || as_root=(sudo)
  "${as_root[@]}" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}"
fi

[ -f build/release/build.ninja ] || cmake --preset release
cmake --build --preset release
