#!/usr/bin/env python3
"""How answers without a model fare on question sets: what is cited first, refused, doubted and repeated, set by set.

    python3 bench/sets/answers.py FOLDER CONFIGURATION:CORPUS [--program PROGRAM] [--split dev]

FOLDER has the sets of `make.py`, with a corpus of each built beside its questions. Prints a table in Markdown. `error` is the expected calibration error: by how
much the share of right first citations is off the probabilities that the answers give, on average over ten bins.
"""

import argparse
import pathlib

from compare import run

COLUMNS = ["first_cited", "wrongly_refused", "closest", "refused_far", "doubted_far", "refused_near", "doubted_near", "repeats"]


def calibration_error(questions):
    """The expected calibration error of questions, those aside that were refused though they have an answer."""
    bins = {}
    for question in questions:
        known = question["refuse"] or not question["refused"]
        if question.get("confidence") is None or not known:
            continue
        right = 0 if question["refuse"] else question["metrics"]["first_cited"]
        bins.setdefault(min(int(question["confidence"] * 10), 9), []).append((question["confidence"], right))
    count = sum(len(pairs) for pairs in bins.values())
    off = sum(abs(sum(confidence - right for confidence, right in pairs)) for pairs in bins.values())
    return off / count if count else float("nan")


def row(name, questions):
    def mean(column):
        values = [question["metrics"][column] for question in questions if column in question["metrics"]]
        return f"{sum(values) / len(values):.3f}" if values else ""

    cells = [mean(column) for column in COLUMNS] + [f"{calibration_error(questions):.3f}"]
    print(f"| {name} | {len(questions):,} | " + " | ".join(cells) + " |", flush=True)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=pathlib.Path)
    parser.add_argument("way", help="a configuration file, and the name of the corpus in the folder of a set")
    parser.add_argument("--program", default="logothete")
    parser.add_argument("--split", default="dev")
    arguments = parser.parse_args()
    print(f"| set, {arguments.split} | questions | " + " | ".join(COLUMNS) + " | error |")
    print("|---|" + "---:|" * (len(COLUMNS) + 2))
    every = []
    for file in sorted(arguments.folder.resolve().glob("*/questions.jsonl")):
        evaluated = run(arguments.program, file.parent, arguments.way, "evaluate", "questions.jsonl", "--split", arguments.split)
        questions = evaluated["runs"][0]["per_question"]
        row(file.parent.name, questions)
        every += questions
    row("all", every)


if __name__ == "__main__":
    main()
