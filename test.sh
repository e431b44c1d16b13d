#!/usr/bin/env bash
# Builds what is missing and runs all tests.
source "$(dirname "$0")/scripts/prepare.sh" everything
exec ctest --test-dir build/release --output-on-failure --parallel "$(nproc)"
