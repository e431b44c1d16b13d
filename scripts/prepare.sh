# Sourced by demo.sh and test.sh, with the word `demo` or `everything`: installs the packages that are missing and builds
# what that needs in the release preset.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

packages=(g++ cmake ninja-build python3 libc6-dev libcxxopts-dev libfmt-dev gcc-multilib g++-multilib zlib1g-dev
    libzstd-dev liblzma-dev libgraphviz-dev libcairo2-dev libpango1.0-dev libreadline-dev libncurses-dev pkg-config
    libtomlplusplus-dev
    fonts-dejavu-core nasm binutils)
if [ "$1" = everything ]; then
  packages+=(clang git zsh fish nlohmann-json3-dev libgtest-dev libbenchmark-dev procps libc6-dbg llvm-14)
fi
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

# The pages are tested in a browser where one can be had; without it that test says that it was skipped.
if [ "$1" = everything ] && ! command -v chromedriver > /dev/null && [ "${#missing[@]}" -gt 0 ]; then
  DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends chromium chromium-driver \
    > /dev/null 2>&1 || echo "No browser could be installed: the test of the pages is skipped."
fi

if [ "$1" = everything ]; then
  echo "Building everything; the first time takes about ten minutes on two processors."
  [ -f build/release/tests/CTestTestfile.cmake ] || cmake --preset release -DDEEPTRACE_EVERYTHING=ON > /dev/null
  cmake --build --preset release
else
  echo "Building the program and the demo programs; the first time takes a few minutes."
  [ -f build/release/build.ninja ] || cmake --preset release -DDEEPTRACE_EVERYTHING=OFF > /dev/null
  cmake --build --preset release --target deeptrace demo
fi
