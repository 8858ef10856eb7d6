#!/usr/bin/env python3
"""Writes a text of fifty pages, 25,000 words, to be checked against the documents that it is made of: `python3 bench/claims/text.py SETS TEXT`.

Every other paragraph of two manuals is taken as it is; in two of five, `should` becomes `must` and `is` becomes `is always`, and three numbers of ten grow by
one. The same text comes out each time.
"""

import html
import pathlib
import random
import re
import sys

WORDS = 25_000
MANUALS = ["policy", "handbook"]


def paragraphs(sets):
    for manual in MANUALS:
        for file in sorted(path for path in (sets / manual / "documents").rglob("*") if path.is_file()):
            text = file.read_text(errors="ignore")
            found = re.findall(r"<p[^>]*>(.*?)</p>", text, re.S) or text.split("\n\n")
            for paragraph in found:
                yield " ".join(html.unescape(re.sub(r"<[^>]+>", "", paragraph)).split())


def main():
    draw, out, count = random.Random(3), [], 0
    for paragraph in paragraphs(pathlib.Path(sys.argv[1])):
        if len(paragraph.split()) < 8 or draw.random() < 0.5:
            continue
        if draw.random() < 0.4:
            paragraph = paragraph.replace("should", "must").replace(" is ", " is always ")
        paragraph = re.sub(r"\b(\d+)\b", lambda number: str(int(number[1]) + (draw.random() < 0.3)), paragraph)
        out.append(paragraph)
        count += len(paragraph.split())
        if count > WORDS:
            break
    pathlib.Path(sys.argv[2]).write_text("\n\n".join(out))


if __name__ == "__main__":
    main()
