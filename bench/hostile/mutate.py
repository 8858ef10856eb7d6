#!/usr/bin/env python3
"""Makes mutated copies of the demo's documents, always the same ones for a seed.

usage: mutate.py SEED COUNT FOLDER [SOURCE...]

Each file is a copy of one of SOURCE (default: demo/documents) in which bytes are changed, taken out, repeated, or put in from another file. COUNT files are
written to FOLDER, at most 60 kB each, so that a build of 20,000 of them takes minutes.
"""

import os
import random
import sys

MOST = 60_000


def files(paths):
    for path in paths:
        for folder, _, names in sorted(os.walk(path)):
            for name in sorted(names):
                yield os.path.join(folder, name)


def mutated(rng, data, other):
    data = bytearray(data)
    for _ in range(rng.choice([1, 1, 2, 5, 20, 100])):
        if not data:
            break
        at = rng.randrange(len(data))
        length = min(rng.choice([1, 1, 2, 8, 64, 1024]), len(data) - at)
        way = rng.randrange(6)
        if way == 0:
            data[at] = rng.randrange(256)
        elif way == 1:
            del data[at:at + length]
        elif way == 2:
            data[at:at] = data[at:at + length] * rng.choice([1, 2, 50])
        elif way == 3:
            start = rng.randrange(len(other))
            data[at:at + length] = other[start:start + length]
        elif way == 4:
            data[at] ^= 1 << rng.randrange(8)
        else:
            number = rng.choice([b"0", b"-1", b"65536", b"4294967295", b"9" * 30])
            data[at:at + length] = number
    return bytes(data[:MOST])


def main():
    seed, count, folder = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3]
    here = os.path.dirname(os.path.abspath(__file__))
    sources = sys.argv[4:] or [os.path.join(here, "..", "..", "demo", "documents")]
    read = []
    for name in files(sources):
        with open(name, "rb") as file:
            read.append((os.path.splitext(name)[1], file.read()))
    rng = random.Random(seed)
    for number in range(count):
        ending, data = rng.choice(read)
        _, other = rng.choice(read)
        place = os.path.join(folder, f"{number // 500:03}")
        os.makedirs(place, exist_ok=True)
        with open(os.path.join(place, f"{number:05}{ending}"), "wb") as file:
            file.write(mutated(rng, data, other))


main()
