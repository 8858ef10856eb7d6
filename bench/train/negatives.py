#!/usr/bin/env python3
"""Adds hard negatives to pairs: passages that the default search finds for a question, and that are not the right one.

    python3 bench/train/negatives.py PAIRS OUT FOLDER [--program PROGRAM]

builds a corpus of all texts of PAIRS (the file of `pairs.py`) in FOLDER, searches it for every question, and writes the pairs to OUT with up to four
texts each in `hard`. A passage of the same package that says nearly the same may be right too; one that shares half its words with the right text
is not taken.
"""

import json
import pathlib
import subprocess
import sys

MAX_HARD = 4
MAX_COMMON = 0.5
QUESTIONS_OF_CALL = 500


def main():
    arguments = sys.argv[1:]
    program = "logothete"
    if "--program" in arguments:
        at = arguments.index("--program")
        program = arguments[at + 1]
        del arguments[at:at + 2]
    if len(arguments) != 3:
        sys.exit("give the pairs, the file to write, and a folder for the corpus")
    source, target, folder = map(pathlib.Path, arguments)
    pairs = [json.loads(line) for line in source.read_text().splitlines()]
    texts, numbers = [], {}
    for pair in pairs:
        if pair["text"] not in numbers:
            numbers[pair["text"]] = len(texts)
            texts.append(pair["text"])
    documents = folder / "texts"
    for number, text in enumerate(texts):
        file = documents / f"{number // 1000:03}" / f"{number:06}.txt"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text + "\n")
    corpus = folder / "corpus"
    subprocess.run([program, "build", str(documents), "--corpus", str(corpus)], check=True, stdout=subprocess.DEVNULL)
    with open(target, "w") as file:
        for first in range(0, len(pairs), QUESTIONS_OF_CALL):
            some = pairs[first:first + QUESTIONS_OF_CALL]
            for pair, found in zip(some, search(program, corpus, folder, some)):
                right = set(pair["text"].lower().split())
                pair["hard"] = []
                for number in found:
                    words = set(texts[number].lower().split())
                    common = len(words & right) / max(min(len(words), len(right)), 1)
                    if number != numbers[pair["text"]] and common < MAX_COMMON and len(pair["hard"]) < MAX_HARD:
                        pair["hard"].append(texts[number])
                file.write(json.dumps(pair, ensure_ascii=False) + "\n")
            print(f"{first + len(some)} of {len(pairs)}", flush=True)


def search(program, corpus, folder, pairs):
    """The numbers of the texts that are found for each question, the best first."""
    queries = folder / "queries.txt"
    # A question may have no word to search for; its line must not be empty either.
    queries.write_text("".join(" ".join(pair["question"].replace('"', " ").replace("+", " ").split()) + " passage\n" for pair in pairs))
    command = [program, "search", "--queries", str(queries), "--corpus", str(corpus), "--json"]
    done = subprocess.run(command, check=True, stdout=subprocess.PIPE)
    searches = json.loads(done.stdout)["searches"]
    return [
        list(dict.fromkeys(int(pathlib.PurePath(passage["document"]).stem) for passage in one["passages"])) for one in searches
    ]


if __name__ == "__main__":
    main()
