#!/bin/sh
# Makes documents/byelaws.pdf from byelaws.tex. Needs pdflatex with the lmodern, fancyhdr, titlesec, lastpage and
# microtype packages (Debian: texlive-latex-extra, lmodern). The same source gives the same bytes each time.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
for pass in 1 2 3; do
    SOURCE_DATE_EPOCH=1707696000 FORCE_SOURCE_DATE=1 pdflatex -interaction=batchmode -halt-on-error \
        -output-directory="$work" "$here/byelaws.tex" >/dev/null
done
cp "$work/byelaws.pdf" "$here/../documents/byelaws.pdf"
