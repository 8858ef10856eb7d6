#!/usr/bin/env python3
"""Says what a tree changes on questions that are not about the whole: `python3 bench/trees/cost.py SETS --program target/dist/logothete`.

Builds a corpus of each set, evaluates its dev questions without a tree and with one, and prints how many questions were answered otherwise, and each measure
that fell by more than the half of its interval of 95 %.
"""

import argparse
import json
import pathlib
import subprocess
import tempfile

SETTINGS = {"off": "", "on": '[tree]\nkind = "sentences"\n'}


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("sets", type=pathlib.Path)
    parser.add_argument("--program", default="logothete")
    arguments = parser.parse_args()
    program = str(pathlib.Path(arguments.program).resolve())
    changed = asked = 0
    for folder in sorted(path for path in arguments.sets.resolve().iterdir() if (path / "questions.jsonl").is_file()):
        with tempfile.TemporaryDirectory() as place:
            for name, text in SETTINGS.items():
                pathlib.Path(place, f"{name}.toml").write_text(text)

            def run(tree, *words):
                command = [program, "--config", f"{tree}.toml", "--corpus", "c", *words]
                # A file that cannot be read is named, and the others are there.
                return subprocess.run(command, cwd=place, capture_output=True, text=True).stdout

            def evaluated(tree):
                out = run(tree, "evaluate", str(folder / "questions.jsonl"), "--split", "dev", "--json")
                return json.loads(out)["runs"][0]

            run("off", "build", str(folder / "documents"))
            before = evaluated("off")
            run("on", "tree", "--grow")
            after = evaluated("on")
        pairs = list(zip(before["per_question"], after["per_question"]))
        own = sum(one["metrics"] != other["metrics"] for one, other in pairs)
        changed, asked = changed + own, asked + len(pairs)
        fell = []
        for measure, value in before["metrics"].items():
            interval = before["intervals"].get(measure)
            if interval and value - after["metrics"].get(measure, 0.0) > value - interval["low"]:
                fell.append(measure)
        print(f"{folder.name}: {own} of {len(pairs)} answered otherwise; fell by more than the interval: {', '.join(fell) or 'none'}")
    print(f"{changed} of {asked}")


if __name__ == "__main__":
    main()
