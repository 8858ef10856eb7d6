#!/usr/bin/env python3
"""Makes pairs of one's own documents, to train an encoder on: each heading, and the text below it.

    logothete build DOCUMENTS --corpus own.corpus
    logothete show --export own.jsonl --corpus own.corpus
    python3 bench/train/own.py own.jsonl FOLDER

writes `pairs.jsonl` and `held.jsonl` into FOLDER, as `pairs.py` does. The headings of one document in ten are held, to choose settings by. A heading
that several sections have asks for none of them. A few hundred pairs are the least that teaches anything.
"""

import collections
import json
import pathlib
import sys

from pairs import MAX_WORDS, make

MIN_WORDS = 20


def sections(export):
    """The document, the heading and the text of each section of an export."""
    texts, blocks = {}, collections.defaultdict(list)
    with open(export) as lines:
        for line in lines:
            kind, row = next(iter(json.loads(line).items()))
            if kind == "documents":
                texts[row["id"]] = (row["path"], row["text"].encode())
            elif kind == "blocks" and row["kind"] == "heading":
                blocks[row["document"]].append((row["start"], row["end"]))
    for document, headings in blocks.items():
        path, text = texts[document]
        ends = [start for start, _ in headings[1:]] + [len(text)]
        for (start, end), next_start in zip(headings, ends):
            part = lambda start, end: " ".join(text[start:end].decode(errors="replace").split())
            yield path, make.heading_of(part(start, end)), part(end, next_start)


def main():
    if len(sys.argv) != 3:
        sys.exit("give a file that show --export wrote, and a folder")
    found = [one for one in sections(sys.argv[1]) if len(one[2].split()) >= MIN_WORDS]
    counts = collections.Counter(heading.lower() for _, heading, _ in found)
    out = pathlib.Path(sys.argv[2])
    out.mkdir(parents=True, exist_ok=True)
    written = {"pairs": 0, "held": 0}
    with open(out / "pairs.jsonl", "w") as pairs, open(out / "held.jsonl", "w") as held:
        for path, heading, text in found:
            asks = bool(make.ASKS.search(heading))
            if counts[heading.lower()] == 1 and (asks or make.names_something(heading)):
                name, file = ("held", held) if make.number("held", path) % 10 == 0 else ("pairs", pairs)
                # What is held is searched for among all that is held.
                package = "held" if name == "held" else path
                pair = {"package": package, "kind": "asks" if asks else "names", "question": heading}
                file.write(json.dumps(pair | {"text": " ".join(text.split()[:MAX_WORDS])}, ensure_ascii=False) + "\n")
                written[name] += 1
    print(f"{written['pairs']} pairs, and {written['held']} that are held")


if __name__ == "__main__":
    main()
