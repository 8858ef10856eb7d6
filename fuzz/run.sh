#!/bin/sh
# Runs every fuzz target, or those that are named, for some seconds each.
set -eu
cd "$(dirname "$0")"
seconds=${1:-30}
[ $# -gt 0 ] && shift
targets=${*:-captions code delimited docx email epub html json markdown pdf pptx sheets text}
for target in $targets; do
    echo "$target, $seconds s"
    mkdir -p "corpus/$target" "seeds/$target"
    # The demo's documents are seeds too.
    case $target in
        delimited) demo="*.csv" ;;
        docx) demo="*.docx" ;;
        email) demo="*.eml" ;;
        html) demo="*.html" ;;
        markdown) demo="notices/*.md" ;;
        pdf) demo="*.pdf" ;;
        pptx) demo="*.pptx" ;;
        sheets) demo="*.xlsx" ;;
        text) demo="*.txt" ;;
        *) demo="" ;;
    esac
    if [ -n "$demo" ]; then
        # The pattern is meant to be expanded.
        # shellcheck disable=SC2086
        cp ../demo/documents/$demo "corpus/$target/"
    fi
    cargo fuzz run --sanitizer none "$target" "corpus/$target" "seeds/$target" -- \
        -max_total_time="$seconds" -timeout=10 -rss_limit_mb=2048 -max_len=100000 -verbosity=0
done
