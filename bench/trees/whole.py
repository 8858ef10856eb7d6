#!/usr/bin/env python3
"""Measures answers about the whole, with a tree of summaries and without: how many of the sections that a question is about are cited.

    python3 bench/trees/whole.py FOLDER [--program PROGRAM] [--split dev]

FOLDER has the sets of `bench/sets/make.py`. The questions are those of `whole.jsonl` beside this file. For a manual, the places that a question is about are the
documents of one of its parts, as the manual divides itself; for the demo they are named one by one. Both corpora are built in a temporary folder. The number of
relevant places among the citations of each answer is compared question by question; p is that of a paired randomisation test.
"""

import json
import pathlib
import random
import subprocess
import sys
import tempfile

HERE = pathlib.Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "sets"))

from compare import program_at  # noqa: E402
from defaults import options  # noqa: E402

WITH = "[tree]\nkind = \"sentences\"\n"
WITHOUT = ""


def asked(program, corpus, config, question):
    command = [program, "--config", str(config), "--corpus", str(corpus), "--json", "ask", question]
    done = subprocess.run(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    return json.loads(done.stdout) if done.stdout else {}


def places(reply):
    """The documents of the citations, and the sections in them."""
    found = set()
    for source in reply.get("sources", []):
        location = source.get("location", source)
        section = location.get("section") or []
        found.add((location["document"], section[-1] if section else ""))
    return found


def relevant(question, found):
    """The places among the found ones that the question is about."""
    if "part" in question:
        return {document for document, _ in found if document.startswith(question["part"] + "/")}
    wanted = {(one["document"], one.get("section", "")) for one in question["relevant"]}
    hits = set()
    for document, section in found:
        for name, heading in wanted:
            if document == name and (not heading or heading == section):
                hits.add((name, heading))
    return hits


def p_value(differences, rounds=10_000):
    draw, observed, more = random.Random(7), abs(sum(differences)), 0
    for _ in range(rounds):
        more += abs(sum(one if draw.random() < 0.5 else -one for one in differences)) >= observed
    return (more + 1) / (rounds + 1)


def main():
    arguments, program, split = options(sys.argv[1:])
    if not arguments:
        sys.exit("give the folder of the sets")
    sets, program = pathlib.Path(arguments[0]).resolve(), program_at(program)
    questions = [json.loads(line) for line in (HERE / "whole.jsonl").read_text().splitlines()]
    questions = [one for one in questions if split in ("all", one["split"])]
    print("| set, " + split + " | questions | sections cited, plain | with a tree | citations that are right, plain | with a tree | refused, plain | with a tree | p |")
    print("|---|---:|---:|---:|---:|---:|---:|---:|---:|")
    everything = []
    with tempfile.TemporaryDirectory() as folder:
        folder = pathlib.Path(folder)
        for name in sorted({one["set"] for one in questions}):
            source = HERE.parent.parent / "demo/documents" if name == "demo" else sets / name / "documents"
            rows = []
            for way, settings in (("plain", WITHOUT), ("tree", WITH)):
                config = folder / f"{way}.toml"
                config.write_text(settings)
                corpus = folder / f"{name}-{way}"
                subprocess.run([program, "--config", str(config), "--corpus", str(corpus), "build", str(source)], stdout=subprocess.DEVNULL)
                for at, question in enumerate(one for one in questions if one["set"] == name):
                    reply = asked(program, corpus, config, question["question"])
                    found = places(reply)
                    row = (len(relevant(question, found)), len(found), reply.get("status") == "refused")
                    rows.append(row) if way == "plain" else rows.__setitem__(at, (rows[at], row))
            everything += rows
            line(name, rows)
    line("all", everything)


def line(name, rows):
    mean = lambda values: sum(values) / max(len(values), 1)
    differences = [tree[0] - plain[0] for plain, tree in rows]
    cells = [
        len(rows),
        f"{mean([plain[0] for plain, _ in rows]):.2f}",
        f"{mean([tree[0] for _, tree in rows]):.2f}",
        f"{sum(plain[0] for plain, _ in rows) / max(sum(plain[1] for plain, _ in rows), 1):.2f}",
        f"{sum(tree[0] for _, tree in rows) / max(sum(tree[1] for _, tree in rows), 1):.2f}",
        f"{mean([plain[2] for plain, _ in rows]):.2f}",
        f"{mean([tree[2] for _, tree in rows]):.2f}",
        f"{p_value(differences):.4f}",
    ]
    print(f"| {name} | " + " | ".join(map(str, cells)) + " |", flush=True)


if __name__ == "__main__":
    main()
