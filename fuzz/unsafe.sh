#!/bin/sh
# Runs the tests that reach `unsafe` code under a sanitizer of addresses: the kernels of vectors and of the encoder, and files that are mapped.
set -eu
cd "$(dirname "$0")/.."
host=$(rustc -vV | sed -n 's/^host: //p')
# The stable compiler takes a sanitizer only so.
export RUSTC_BOOTSTRAP=1 RUSTFLAGS="-Zsanitizer=address" ASAN_OPTIONS=detect_leaks=0
run() {
    cargo test --target "$host" --target-dir "${CARGO_TARGET_DIR:-fuzz/target}/address" "$@"
}
run -p logothete-core --lib -- vector keyword segment
run -p logothete-core --test suite -- indexes tokens keyword
run -p logothete-encoder --lib --tests
run -p logothete --lib -- storage
run -p logothete --test suite -- corpus sharing upkeep consistency late_interaction
