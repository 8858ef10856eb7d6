#!/usr/bin/env python3
"""Compares two ways to search on question sets: the measure of each set, before and after, and whether the difference may be chance.

    python3 bench/sets/compare.py FOLDER BEFORE AFTER [--program PROGRAM] [--split dev] [--measure ndcg@10]

FOLDER has the sets of `make.py`, with a corpus of each built beside its questions. BEFORE and AFTER are each `CONFIGURATION:CORPUS`: a configuration file, and the
name of the corpus in the folder of a set (`corpus`, if it is left out). Prints a table in Markdown, with 95 % intervals of the mean difference (normal
approximation) and the two-sided p-value of a paired randomisation test (Fisher, 1935; 10,000 exchanges, seeded).
"""

import argparse
import json
import math
import pathlib
import random
import shutil
import subprocess

EXCHANGES = 10_000


def program_at(name):
    """The path of a program, which stays right in another folder."""
    return pathlib.Path(shutil.which(name) or name).resolve()


def run(program, folder, way, *arguments):
    """What a command prints as JSON, in one of the two ways to search."""
    configuration, _, corpus = way.partition(":")
    command = [program_at(program), *arguments, "--json", "--corpus", corpus or "corpus", "--config", str(pathlib.Path(configuration).resolve())]
    return json.loads(subprocess.run(command, stdout=subprocess.PIPE, check=True, cwd=folder).stdout)


def measured(program, folder, way, split, measure):
    """The value of each question that has the measure."""
    questions = run(program, folder, way, "evaluate", "questions.jsonl", "--split", split)["runs"][0]["per_question"]
    return {question["id"]: question["metrics"][measure] for question in questions if measure in question["metrics"]}


def chance(differences, seed=2026):
    """The share of random exchanges of before and after that differ by as much."""
    drawn, seen, mean = random.Random(seed), 0, abs(sum(differences))
    differences = [difference for difference in differences if difference]
    for _ in range(EXCHANGES):
        bits = drawn.getrandbits(len(differences) or 1)
        total = sum(difference if bits >> at & 1 else -difference for at, difference in enumerate(differences))
        seen += abs(total) >= mean - 1e-12
    return (seen + 1) / (EXCHANGES + 1)


def row(name, before, after):
    pairs = [(before[id], after[id]) for id in before if id in after]
    count = len(pairs)
    differences = [after - before for before, after in pairs]
    middle = sum(differences) / count
    error = math.sqrt(sum((difference - middle) ** 2 for difference in differences) / max(count - 1, 1) / count)
    means = [sum(values) / count for values in zip(*pairs)]
    p = chance(differences)
    print(f"| {name} | {count:,} | {means[0]:.3f} | {means[1]:.3f} | {middle:+.3f} ± {1.96 * error:.3f} | {p:.4f} |", flush=True)


def parser_for(description):
    """The arguments that every comparison of two ways has."""
    parser = argparse.ArgumentParser(description=description, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=pathlib.Path)
    parser.add_argument("before")
    parser.add_argument("after")
    parser.add_argument("--program", default="logothete")
    parser.add_argument("--split", default="dev")
    return parser


def main():
    parser = parser_for(__doc__)
    parser.add_argument("--measure", default="ndcg@10")
    arguments = parser.parse_args()
    print(f"| set, {arguments.split} | questions | before | after | difference | p |\n|---|---:|---:|---:|---:|---:|")
    all_before, all_after = {}, {}
    for file in sorted(arguments.folder.resolve().glob("*/questions.jsonl")):
        before, after = (
            measured(arguments.program, file.parent, way, arguments.split, arguments.measure)
            for way in (arguments.before, arguments.after)
        )
        row(file.parent.name, before, after)
        all_before.update(before)
        all_after.update(after)
    row("all", all_before, all_after)


if __name__ == "__main__":
    main()
