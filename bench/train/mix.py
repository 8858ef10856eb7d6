#!/usr/bin/env python3
"""Makes a mean of models that were trained from the same one.

    venv/bin/python bench/train/mix.py OUT MODEL=SHARE MODEL=SHARE… [--held HELD]

Each MODEL is a folder with a model, which may be the one that training began from. The weights of OUT are their mean, by shares that need not add up to one (Wortsman
and others, 2022). With `--held`, prints nDCG@10 of the held pairs, as `train.py` measures it.
"""

import argparse
import json
import pathlib
import shutil

from safetensors.torch import load_file, save_file

from train import Encoder, Tokens, measured, read


def part(argument):
    folder, _, share = argument.rpartition("=")
    return pathlib.Path(folder), float(share)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("out", type=pathlib.Path)
    parser.add_argument("models", type=part, nargs="+", metavar="MODEL=SHARE")
    parser.add_argument("--held", type=pathlib.Path)
    arguments = parser.parse_args()
    total = sum(share for _, share in arguments.models)
    first = arguments.models[0][0]
    mixed = load_file(first / "model.safetensors")
    floats = [name for name, value in mixed.items() if value.is_floating_point()]
    means = {name: 0.0 for name in floats}
    for folder, share in arguments.models:
        weights = load_file(folder / "model.safetensors")
        for name in floats:
            # The sum is kept in 64 bits, so that its order does not matter.
            means[name] = means[name] + weights[name].double() * (share / total)
    mixed |= {name: value.float() for name, value in means.items()}
    shutil.copytree(first, arguments.out, ignore=shutil.ignore_patterns("*.safetensors", "*.bin", "*.onnx"), dirs_exist_ok=True)
    save_file(mixed, arguments.out / "model.safetensors", metadata={"format": "pt"})
    if arguments.held:
        config = json.loads((first / "config.json").read_text())
        found = measured(Encoder(mixed, config), Tokens(first), read(arguments.held))
        print(", ".join(f"{name} {value:.4f}" for name, value in found.items()))


if __name__ == "__main__":
    main()
