#!/usr/bin/env python3
"""Prints the packages that a model was trained on, with their licences, as a table for its model card.

    python3 bench/train/card.py FOLDER

FOLDER is the one that `pairs.py` wrote. A licence is named as the package names it; no name means that the package has its licence in prose only.
"""

import collections
import json
import pathlib
import sys


def main():
    if len(sys.argv) != 2:
        sys.exit("give the folder that pairs.py wrote")
    folder = pathlib.Path(sys.argv[1])
    with open(folder / "pairs.jsonl") as lines:
        pairs = collections.Counter(json.loads(line)["package"] for line in lines)
    print("| package | version | pairs | licences |\n|---|---|---:|---|")
    for package in json.loads((folder / "packages.json").read_text()):
        if pairs[package["package"]]:
            licences = ", ".join(package["licences"]) or "in prose"
            print(f"| {package['package']} | {package['version']} | {pairs[package['package']]:,} | {licences} |")


if __name__ == "__main__":
    main()
