#!/usr/bin/env python3
"""Makes the tables of `docs/defaults.md`: for each default that measuring can decide, the results of other values on question sets.

    python3 bench/sets/defaults.py FOLDER [--program PROGRAM] [--split dev] [SETTING...]

FOLDER has the sets of `make.py`. The corpus of each is built beside its questions. Settings that change what is built are measured on
the five smaller sets, since each value is a build. Tables are printed as Markdown, with the questions of all sets together: the mean of each
measure, and the difference of nDCG@10 from the default with its 95 % interval (normal approximation of the paired differences).
"""

import json
import math
import pathlib
import subprocess
import sys

from compare import program_at

# A setting, the values beside the default one, and whether a build depends on it.
SETTINGS = [
    ("search.keyword", ["0", "0.2", "0.35", "0.75", "1.0"], False),
    ("search.vector", ["0"], False),
    ("search.depth", ["20", "50", "200"], False),
    ("search.fusion", ["ranks", "calibrated"], False),
    ("search.diversity.repeat", ["1.0", "0.25", "0.0"], False),
    ("answer.min_confidence", ["0.2", "0.25", "0.35", "0.4"], False),
    ("chunk.limit", ["60", "90", "130"], True),
    ("chunk.strategy", ["sentences", "window"], True),
]
SMALL = ["accounting", "handbook", "packaging", "perl", "policy"]
MEASURES = ["hit@3", "ndcg@10", "first_cited", "wrongly_refused", "closest", "doubted_near", "refused_far", "right"]


def evaluate(program, folder, split, arguments):
    command = [program_at(program), "evaluate", str(folder / "questions.jsonl"), "--split", split, "--corpus", str(folder / "corpus"), "--json"]
    done = subprocess.run(command + arguments, stdout=subprocess.PIPE, check=True, cwd=folder)
    return json.loads(done.stdout)["runs"]


def options(arguments):
    """Returns the arguments that are left, the program and the split."""
    program, split = "logothete", "dev"
    for option in ("--program", "--split"):
        if option in arguments:
            at = arguments.index(option)
            value = arguments[at + 1]
            program, split = (value, split) if option == "--program" else (program, value)
            del arguments[at:at + 2]
    return arguments, program, split


def mean(values):
    return sum(values) / len(values) if values else None


def table(setting, runs):
    """`runs` has, for each value, the metrics of every question."""
    name, first = setting, next(iter(runs))
    print(f"\n### `{name}`\n")
    print("| value | " + " | ".join(MEASURES) + " | nDCG@10 against the default |")
    print("|---|" + "---:|" * (len(MEASURES) + 1))
    base = runs[first]
    for value, questions in runs.items():
        cells = []
        for measure in MEASURES:
            found = mean([metrics[measure] for metrics in questions.values() if measure in metrics])
            cells.append("–" if found is None else f"{found:.3f}")
        pairs = [
            metrics["ndcg@10"] - base[id]["ndcg@10"]
            for id, metrics in questions.items() if "ndcg@10" in metrics and id in base
        ]
        change = ""
        if value != first and pairs:
            middle = mean(pairs)
            error = math.sqrt(sum((pair - middle) ** 2 for pair in pairs) / max(len(pairs) - 1, 1) / len(pairs))
            change = f"{middle:+.3f} ± {1.96 * error:.3f}"
        print(f"| {value} | " + " | ".join(cells) + f" | {change} |", flush=True)


def main():
    arguments, program, split = options(sys.argv[1:])
    if not arguments:
        sys.exit("give the folder of the sets")
    root, wanted = pathlib.Path(arguments[0]).resolve(), arguments[1:]
    sets = [root / file.parent.name for file in sorted(root.glob("*/questions.jsonl"))]
    for folder in sets:
        built = subprocess.run(
            [program_at(program), "build", str(folder / "documents"), "--corpus", str(folder / "corpus")], cwd=folder, stdout=subprocess.DEVNULL,
        )
        # 4 means that some files could not be read.
        if built.returncode not in (0, 4):
            sys.exit(f"{folder.name} could not be built")
    if not wanted:
        print(f"\n### By set\n\n| set, {split} | questions | " + " | ".join(MEASURES) + " |")
        print("|---|---:|" + "---:|" * len(MEASURES))
        for folder in sets:
            run = evaluate(program, folder, split, [])[0]
            cells = [f"{run['metrics'][measure]:.3f}" if measure in run["metrics"] else "–" for measure in MEASURES]
            print(f"| {folder.name} | {run['questions']} | " + " | ".join(cells) + " |", flush=True)
    for setting, values, builds in SETTINGS:
        if wanted and setting not in wanted:
            continue
        runs = {}
        for folder in sets:
            if builds and folder.name not in SMALL:
                continue
            found = evaluate(program, folder, split, ["--vary", f"{setting}={','.join(values)}"])
            for value, run in zip(["default"] + values, found):
                metrics = {question["id"]: question["metrics"] for question in run["per_question"]}
                runs.setdefault(value, {}).update(metrics)
        table(setting, runs)


if __name__ == "__main__":
    main()
