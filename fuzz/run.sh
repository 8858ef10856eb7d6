#!/bin/sh
# Runs the fuzz targets, two at a time: `sh fuzz/run.sh MINUTES [TARGET…]`. All of them share the minutes. `SANITIZER=address` looks for wrong
# memory accesses too, and takes twice as long.
set -eu
cd "$(dirname "$0")"
minutes=${1:-5}
[ $# -gt 0 ] && shift
parsers="captions code delimited docx email epub html json markdown pdf pptx sheets text"
written="filter query question question_set configuration template"
replies="reply claim vectors generation scores"
files="vector_file graph_file list_file token_file keyword_file tree catalogue import"
same="scan keywords incremental"
targets=${*:-$parsers $written $replies $files $same}

# What the fuzzer needs to see which code an input reaches. Other toolchains than the current one are not needed.
flags="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-inline-8bit-counters"
flags="$flags -Cllvm-args=-sanitizer-coverage-pc-table -Cllvm-args=-sanitizer-coverage-trace-compares -Ccodegen-units=1 --cfg fuzzing"
host=$(rustc -vV | sed -n 's/^host: //p')
target=${CARGO_TARGET_DIR:-$PWD/target}/${SANITIZER:-plain}
if [ -n "${SANITIZER:-}" ]; then
    # Sanitizers have a flag that the stable compiler takes only so.
    export RUSTC_BOOTSTRAP=1
    flags="$flags -Zsanitizer=$SANITIZER"
fi
RUSTFLAGS=$flags cargo build --release --target "$host" --target-dir "$target"
program=$target/$host/release/logothete-fuzz

# The demo's documents and questions, templates and settings are seeds too.
seeds() {
    case $1 in
        captions | code | epub | json) ;;
        delimited) echo ../demo/documents/*.csv ;;
        docx) echo ../demo/documents/*.docx ../crates/cli/tests/data/*.docx ;;
        email) echo ../demo/documents/*.eml ;;
        html) echo ../demo/documents/*.html ;;
        markdown) echo ../demo/documents/notices/*.md ;;
        pdf) echo ../demo/documents/*.pdf ../crates/cli/tests/data/*.pdf ;;
        pptx) echo ../demo/documents/*.pptx ;;
        sheets) echo ../demo/documents/*.xlsx ../crates/cli/tests/data/*.xlsx ;;
        text) echo ../demo/documents/*.txt ;;
        question_set) echo ../demo/questions*.jsonl ;;
        configuration) echo ../crates/logothete/src/config/starter.toml ;;
        template) echo ../crates/core/src/prompt/templates/* ;;
    esac
}

count=$(echo "$targets" | wc -w)
seconds=$((minutes * 120 / count))
[ "$seconds" -gt 0 ] || seconds=1
run() {
    mkdir -p "corpus/$1" "seeds/$1" artifacts
    for file in $(seeds "$1"); do
        [ -f "$file" ] && cp "$file" "corpus/$1/"
    done
    # A target of services waits for them, and one of corpora for files.
    FUZZ_TARGET=$1 "$program" "corpus/$1" "seeds/$1" -max_total_time="$seconds" -timeout=30 -rss_limit_mb=2048 \
        -max_len=100000 -verbosity=0 -print_final_stats=1 -artifact_prefix="artifacts/$1-" >"artifacts/$1.log" 2>&1 &&
        echo "$1: $(sed -n 's/^stat::number_of_executed_units: *//p' "artifacts/$1.log") inputs in $seconds s" ||
        { echo "$1: FAILED, see fuzz/artifacts/$1.log"; touch artifacts/failed; }
}
mkdir -p artifacts
rm -f artifacts/failed
set -- $targets
while [ $# -gt 0 ]; do
    run "$1" &
    first=$!
    shift
    if [ $# -gt 0 ]; then
        run "$1"
        shift
    fi
    wait "$first"
done
[ ! -e artifacts/failed ]
