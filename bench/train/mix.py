#!/usr/bin/env python3
"""Makes a mean of two models: the one that training began from, and the trained one.

    venv/bin/python bench/train/mix.py BEGAN TRAINED OUT SHARE [--held HELD]

BEGAN and TRAINED are folders with a model. The weights of OUT are SHARE of the trained one's and the rest of the other's (Wortsman and others, 2022). With `--held`, prints
nDCG@10 of the held pairs, as `train.py` measures it.
"""

import argparse
import json
import pathlib
import shutil

from safetensors.torch import load_file, save_file

from train import Encoder, Tokens, measured, read


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("began", type=pathlib.Path)
    parser.add_argument("trained", type=pathlib.Path)
    parser.add_argument("out", type=pathlib.Path)
    parser.add_argument("share", type=float)
    parser.add_argument("--held", type=pathlib.Path)
    arguments = parser.parse_args()
    began, trained = (load_file(folder / "model.safetensors") for folder in (arguments.began, arguments.trained))
    mixed = {
        name: value.lerp(trained[name], arguments.share) if value.is_floating_point() else value for name, value in began.items()
    }
    shutil.copytree(arguments.began, arguments.out, ignore=shutil.ignore_patterns("*.safetensors", "*.bin", "*.onnx"), dirs_exist_ok=True)
    save_file(mixed, arguments.out / "model.safetensors", metadata={"format": "pt"})
    if arguments.held:
        config = json.loads((arguments.began / "config.json").read_text())
        found = measured(Encoder(mixed, config), Tokens(arguments.began), read(arguments.held))
        print(", ".join(f"{name} {value:.4f}" for name, value in found.items()))


if __name__ == "__main__":
    main()
