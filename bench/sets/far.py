#!/usr/bin/env python3
"""Tells how well the best cosine of a search divides questions that documents answer from questions about something else.

    python3 bench/sets/far.py FOLDER BEFORE AFTER [--program PROGRAM] [--split dev]

The arguments are those of `compare.py`; the configurations must search by vectors. Prints, for each set and all together, the area under the curve: how
often the best cosine of an answerable question is above that of a far one, and above that of a near miss, whose section was taken out. The interval of 95 % is
that of Hanley and McNeil (1982).
"""

import json
import math
import tempfile

from compare import parser_for, run


def cosines(program, folder, way, questions):
    """The best cosine of each question, by its id."""
    with tempfile.NamedTemporaryFile("w", suffix=".txt") as file:
        file.write("".join(" ".join(question["question"].split()) + "\n" for question in questions))
        file.flush()
        searches = run(program, folder, way, "search", "--queries", file.name, "--count", "1")["searches"]
    found = [search["passages"] for search in searches]
    assert len(found) == len(questions)
    return {question["id"]: passages[0]["legs"]["vector"]["score"] if passages else -1.0 for question, passages in zip(questions, found)}


def area(above, below):
    """The area under the curve, and half of its interval."""
    pairs = len(above) * len(below)
    if not pairs:
        return None
    value = sum((a > b) + (a == b) / 2 for a in above for b in below) / pairs
    one, two = value / (2 - value), 2 * value**2 / (1 + value)
    spread = value * (1 - value) + (len(above) - 1) * (one - value**2) + (len(below) - 1) * (two - value**2)
    return value, 1.96 * math.sqrt(max(spread, 0) / pairs)


def main():
    arguments = parser_for(__doc__).parse_args()
    print(f"| set, {arguments.split} | far, before | far, after | near, before | near, after |\n|---|---:|---:|---:|---:|")
    all_of = [{}, {}]
    for file in sorted(arguments.folder.resolve().glob("*/questions.jsonl")):
        questions = [json.loads(line) for line in file.read_text().splitlines()]
        questions = [question for question in questions if question["split"] == arguments.split]
        rows = []
        for way, together in zip((arguments.before, arguments.after), all_of):
            found = cosines(arguments.program, file.parent, way, questions)
            kinds = {"far": [], "near miss": [], "": []}
            for question in questions:
                kinds[question["kind"] if question["kind"] in kinds else ""].append(found[question["id"]])
            for kind, values in kinds.items():
                together.setdefault(kind, []).extend(values)
            rows.append(kinds)
        row(file.parent.name, rows)
    row("all", all_of)


def row(name, ways):
    cells = []
    for kind in ("far", "near miss"):
        for way in ways:
            found = area(way[""], way[kind])
            cells.append(f"{found[0]:.3f} ± {found[1]:.3f}" if found else "")
    print(f"| {name} | {' | '.join(cells)} |", flush=True)


if __name__ == "__main__":
    main()
