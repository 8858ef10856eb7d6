#!/bin/sh
# Runs every fuzz target, or those that are named, for some seconds each.
set -eu
cd "$(dirname "$0")"
seconds=${1:-30}
[ $# -gt 0 ] && shift
targets=${*:-captions code delimited docx email epub html json markdown pdf pptx sheets text}
for target in $targets; do
    echo "$target, $seconds s"
    mkdir -p "corpus/$target"
    cargo fuzz run --sanitizer none "$target" "corpus/$target" "seeds/$target" -- \
        -max_total_time="$seconds" -timeout=10 -rss_limit_mb=2048 -max_len=100000 -verbosity=0
done
