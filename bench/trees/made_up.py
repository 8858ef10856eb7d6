#!/usr/bin/env python3
"""Writes a thousand documents of a hundred sections each, about 2,400 made-up subjects in sixty areas: `python3 bench/trees/made_up.py FOLDER`.

A section has eight sentences of twelve words: of its subject, of its area, and of a stock that all share. The same words come out each time.
"""

import pathlib
import random
import sys

SYLLABLES = ["ba", "ke", "li", "mo", "nu", "ra", "se", "ti", "vo", "wi", "za", "pe", "do", "gu", "fa", "hy"]


def main():
    folder = pathlib.Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    draw = random.Random(5)
    word = lambda: "".join(draw.choice(SYLLABLES) for _ in range(draw.randint(2, 4)))
    shared = [word() for _ in range(400)]
    areas = [[word() for _ in range(60)] for _ in range(60)]
    subjects = [(area, [word() for _ in range(25)]) for area in areas for _ in range(40)]
    number = 0
    for document in range(1_000):
        text = [f"# Report {document}\n"]
        for _ in range(100):
            area, own = draw.choice(subjects)
            sentences = []
            for _ in range(8):
                words = [draw.choice(own if draw.random() < 0.45 else area if draw.random() < 0.4 else shared) for _ in range(12)]
                sentences.append(" ".join(words).capitalize() + ".")
            text.append(f"## Part {number}\n\n" + " ".join(sentences) + "\n")
            number += 1
        (folder / f"{document:04}.md").write_text("\n".join(text))


if __name__ == "__main__":
    main()
