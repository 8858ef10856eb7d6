#!/usr/bin/env python3
"""Measures variants of late interaction on the held pairs: fewer numbers or bits of a token, rare tokens weighing more, frequent words left out.

    venv/bin/python bench/train/late.py MODEL HELD

MODEL is a folder with a model, HELD the file that `pairs.py` wrote. Prints nDCG@10 of the right text among all of its package, by the best window of each.
It takes ten minutes on two cores.
"""

import json
import math
import pathlib
import string
import sys

import torch
import torch.nn.functional as functional
from safetensors.torch import load_file

from train import ENCODED_AT_ONCE, MAX_TEXT, STOPWORDS, Encoder, Tokens, read, windows

VARIANTS = {
    "all numbers": {},
    "the first 128": {"numbers": 128},
    "the first 128, without their mean": {"numbers": 128, "centred": True},
    "the first 128, rare tokens weigh more": {"numbers": 128, "rarity": True},
    "the first 128, without frequent words": {"numbers": 128, "telling": True},
    "the first 128, in 2 bits": {"numbers": 128, "bits": 2},
    "the first 128, in 1 bit": {"numbers": 128, "bits": 1},
}
LEVEL_ROUNDS, LEVEL_STEP = 20, 97


@torch.no_grad()
def encoded(encoder, tokens, texts):
    """For each text, the vectors and the numbers of its tokens."""
    order, found = sorted(range(len(texts)), key=lambda at: len(texts[at])), [None] * len(texts)
    for at in range(0, len(order), ENCODED_AT_ONCE):
        part = order[at:at + ENCODED_AT_ONCE]
        ids, mask = tokens([texts[place] for place in part], MAX_TEXT)
        _, states = encoder(ids, mask)
        for place, own, own_ids, own_mask in zip(part, states, ids, mask):
            found[place] = (own[own_mask > 0].clone(), own_ids[own_mask > 0])
    return found


def rounded(values, bits):
    """Values in a few bits, by the levels with the least square distance to a sample (Lloyd, 1982)."""
    sample, count = values.flatten()[::LEVEL_STEP].sort().values, 2 ** bits
    levels = torch.stack([sample[(2 * level + 1) * len(sample) // (2 * count)] for level in range(count)])
    for _ in range(LEVEL_ROUNDS):
        nearest = torch.bucketize(sample, (levels[1:] + levels[:-1]) / 2)
        levels = torch.stack([sample[nearest == level].mean() for level in range(count)])
    return levels[torch.bucketize(values, (levels[1:] + levels[:-1]) / 2)]


def gains(package, frequent, numbers=None, centred=False, rarity=False, telling=False, bits=0):
    pairs, texts, owners, questions, parts = package
    ids = torch.cat([ids for _, ids in parts])
    rows = torch.repeat_interleave(torch.arange(len(parts)), torch.tensor([len(ids) for _, ids in parts]))
    values = functional.normalize(torch.cat([states for states, _ in parts])[:, :numbers], dim=-1)
    mean = values.mean(0)
    if bits:
        values = rounded(values - mean, bits) + mean
    if centred:
        values = values - mean
    values = functional.normalize(values, dim=-1)
    if telling:
        kept = ~frequent[ids]
        values, rows = values[kept], rows[kept]
    counts = torch.zeros(len(frequent))
    # A token counts once for a part.
    once = torch.unique(torch.stack([rows, ids if not telling else ids[kept]]), dim=1)[1]
    counts.index_add_(0, once, torch.ones(len(once)))
    found = []
    for pair, (states, own_ids) in zip(pairs, questions):
        asked = functional.normalize(states[:, :numbers], dim=-1)
        if centred:
            asked = functional.normalize(asked - mean, dim=-1)
        weights = torch.log((len(parts) + 1) / (counts[own_ids] + 0.5)).clamp_min(0.1) if rarity else torch.ones(len(own_ids))
        best = torch.full((len(asked), len(parts)), -1.0).scatter_reduce(1, rows.expand(len(asked), -1), asked @ values.T, "amax")
        scores = (best * weights[:, None]).sum(0) / weights.sum()
        of_texts = torch.full((len(texts),), -9.0).scatter_reduce(0, owners, scores, "amax")
        rank = int((of_texts > of_texts[texts.index(pair["text"])]).sum()) + 1
        found.append(1 / math.log2(rank + 1) if rank <= 10 else 0.0)
    return found


def main():
    if len(sys.argv) != 3:
        sys.exit("give the folder of a model, and the file of held pairs")
    model = pathlib.Path(sys.argv[1])
    encoder = Encoder(load_file(model / "model.safetensors"), json.loads((model / "config.json").read_text()))
    tokens = Tokens(model)
    vocabulary = tokens.tokeniser.get_vocab(with_added_tokens=True)
    frequent = torch.zeros(max(vocabulary.values()) + 1, dtype=bool)
    for word, at in vocabulary.items():
        frequent[at] = word in STOPWORDS or word in {"[CLS]", "[SEP]"} or all(sign in string.punctuation for sign in word)
    packages = []
    for pairs in read(pathlib.Path(sys.argv[2])).values():
        texts = list(dict.fromkeys(pair["text"] for pair in pairs))
        parts = [(at, part) for at, text in enumerate(texts) for part in windows(text)]
        owners = torch.tensor([at for at, _ in parts])
        questions = encoded(encoder, tokens, [pair["question"] for pair in pairs])
        packages.append((pairs, texts, owners, questions, encoded(encoder, tokens, [part for _, part in parts])))
    for name, settings in VARIANTS.items():
        found = [gain for package in packages for gain in gains(package, frequent, **settings)]
        print(f"{name}: {sum(found) / len(found):.4f}", flush=True)


if __name__ == "__main__":
    main()
