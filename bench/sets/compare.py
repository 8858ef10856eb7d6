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
import subprocess

EXCHANGES = 10_000


def measured(program, folder, way, split, measure):
    """The value of each question that has the measure, and the times of searches."""
    configuration, _, corpus = way.partition(":")
    command = [program, "evaluate", "questions.jsonl", "--split", split, "--json"]
    command += ["--corpus", corpus or "corpus", "--config", str(pathlib.Path(configuration).resolve())]
    done = subprocess.run(command, stdout=subprocess.PIPE, check=True, cwd=folder)
    questions = json.loads(done.stdout)["runs"][0]["per_question"]
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


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=pathlib.Path)
    parser.add_argument("before")
    parser.add_argument("after")
    parser.add_argument("--program", default="logothete")
    parser.add_argument("--split", default="dev")
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
