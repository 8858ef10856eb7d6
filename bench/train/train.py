#!/usr/bin/env python3
"""Trains the embedded sentence encoder on, to find the passage that answers, on the CPU.

    pip install torch safetensors tokenizers numpy
    python3 bench/train/train.py MODEL PAIRS RUN [--held HELD] [--steps N] [--rate R] [--pull P] [--hard H] [--frozen N] [--average N]

MODEL is the folder of the model that it begins from (config.json, tokenizer.json, model.safetensors), PAIRS the file of `pairs.py`. RUN is the
folder of this run: `state.pt`, written every ten minutes, lets a later call go on where it was; `losses.csv` has each step; and `model/` is the trained
model, in the format that the packing tool reads. With `--held`, `held.csv` has nDCG@10 of searching the texts of that file, package by package,
at every third checkpoint, since measuring takes minutes: by whole vectors, their first 256 and 128 numbers, by tokens, and by their first 128 numbers.

What is measured and exported is the moving average of the weights over about `--average` steps (Polyak and Juditsky, 1992), which finds more than the last
weights do while the rate is high. `mix.py` goes on from there: a mean of the model and the one that it began from.

A batch has 24 pairs, 60 % of them from one package, so that the passages are hard to tell apart. Of a text, a window of 32, 48 or 84 words is taken, since
a chunk may begin anywhere in a section and have any length. The first layers stay as they are (`--frozen`). The loss is that of choosing the right passage among all of the batch (InfoNCE, van den Oord and others,
2018) at a temperature of 0.05, both ways, and, weighted by `--pull`, the distance from the vectors of the model that it began from, which is computed at every fourth step only. `--hard` is the
share of pairs that follow a pair whose question finds their passage, where PAIRS has been through `negatives.py`: each is a hard negative of the other,
and costs nothing.

`--round` rounds weights and inputs of the layers to eight bits as the packed model does, and learns through the rounding. `--short` also asks the first 128
and 256 numbers of a vector, alone, to choose the right passage. `--tokens` weighs the same choice by the first `--token-numbers` of the tokens of the last layer: for
each token of the question the nearest of the passage, on average (late interaction, Khattab and Zaharia, 2020).

Questions are varied: the heading as it is, a question made of it by rule, its telling words alone, or with typing errors. Everything random has a seed:
the same call gives the same losses, on the same machine and version of torch.
"""

import argparse
import copy
import csv
import json
import math
import pathlib
import random
import re
import shutil
import time

import torch
import torch.nn.functional as functional
from safetensors.torch import load_file, save_file
from tokenizers import Tokenizer

PAIRS_OF_BATCH = 24
OF_ONE_PACKAGE = 0.6
TEMPERATURE = 0.05
# Late interaction is measured, and if nothing else is said learned, with so many numbers of a token.
TOKEN_NUMBERS = 128
MAX_QUESTION, MAX_TEXT = 32, 112
# Words of a window, one length for a batch; the first is the one that held pairs are measured with. A text is cut to four tokens for three words, so that
# the texts of a batch are nearly of one length.
WINDOWS, STRIDE = (84, 48, 32), 60
# The pull is computed at one step of so many, and counts as much more there.
PULL_EVERY = 4
FROM_THE_START = 0.6
WARM_UP = 100
CHECKPOINT_SECONDS = 600
MEASURED_CHECKPOINTS = 3
ENCODED_AT_ONCE = 32
STOPWORDS = set(
    "a an and are as at be by can do does for from how i in is it my of on or that the this to what when where which who why will with you".split()
)


class Encoder(torch.nn.Module):
    """The forward pass of a BERT encoder (Devlin and others, 2018) with mean pooling."""

    def __init__(self, tensors, config):
        super().__init__()
        self.names = {name: name.replace(".", "_") for name in tensors}
        self.weights = torch.nn.ParameterDict(
            {self.names[name]: torch.nn.Parameter(value.float(), requires_grad=value.is_floating_point()) for name, value in tensors.items()
             if value.is_floating_point()}
        )
        self.config = config
        self.rounds = False

    def get(self, name):
        return self.weights[self.names[name]]

    def norm(self, values, name):
        width, epsilon = (values.shape[-1],), self.config["layer_norm_eps"]
        return functional.layer_norm(values, width, self.get(f"{name}.LayerNorm.weight"), self.get(f"{name}.LayerNorm.bias"), epsilon)

    def linear(self, values, name):
        weight = self.get(f"{name}.weight")
        if self.rounds:
            weight, values = rounded(weight), rounded(values)
        return functional.linear(values, weight, self.get(f"{name}.bias"))

    def forward(self, tokens, mask):
        """The vectors of texts, and of their tokens."""
        return self.pooled(self.layers(self.embedded(tokens), mask, 0, self.config["num_hidden_layers"]), mask)

    def embedded(self, tokens):
        values = self.get("embeddings.word_embeddings.weight")[tokens]
        values = values + self.get("embeddings.position_embeddings.weight")[:tokens.shape[1]]
        values = values + self.get("embeddings.token_type_embeddings.weight")[0]
        return self.norm(values, "embeddings")

    def layers(self, values, mask, first, end):
        heads = self.config["num_attention_heads"]
        batch, length, _ = values.shape
        attended = mask[:, None, None, :].bool()
        for layer in range(first, end):
            at = f"encoder.layer.{layer}"

            def split(part):
                return self.linear(values, f"{at}.attention.self.{part}").view(batch, length, heads, -1).transpose(1, 2)

            context = functional.scaled_dot_product_attention(split("query"), split("key"), split("value"), attn_mask=attended)
            context = context.transpose(1, 2).reshape(batch, length, -1)
            values = self.norm(values + self.linear(context, f"{at}.attention.output.dense"), f"{at}.attention.output")
            wide = functional.gelu(self.linear(values, f"{at}.intermediate.dense"))
            values = self.norm(values + self.linear(wide, f"{at}.output.dense"), f"{at}.output")
        return values

    def pooled(self, values, mask):
        weights = mask[:, :, None].float()
        return functional.normalize((values * weights).sum(1) / weights.sum(1), dim=-1), functional.normalize(values, dim=-1)


def rounded(values):
    """Values in eight bits, with a scale for each row. The gradient passes as if they were not rounded."""
    scale = values.detach().abs().amax(-1, keepdim=True).clamp_min(1e-9) / 127
    return values + ((values / scale).round() * scale - values).detach()


class Tokens:
    def __init__(self, folder):
        self.tokeniser = Tokenizer.from_file(str(folder / "tokenizer.json"))
        self.tokeniser.no_padding()

    def __call__(self, texts, longest):
        self.tokeniser.enable_truncation(longest)
        found = [encoding.ids for encoding in self.tokeniser.encode_batch(texts)]
        width = max(map(len, found))
        tokens = torch.tensor([ids + [0] * (width - len(ids)) for ids in found])
        mask = torch.tensor([[1] * len(ids) + [0] * (width - len(ids)) for ids in found])
        return tokens, mask


def varied(heading, kind, chance):
    """A heading as somebody might ask for it."""
    drawn = chance.random()
    words = heading.split()
    if drawn < 0.5 or kind == "asks" and drawn < 0.7:
        return heading
    if drawn < 0.7:
        lowered = heading if words[0].isupper() else heading[0].lower() + heading[1:]
        if len(words[0]) > 5 and words[0].endswith("ing"):
            return chance.choice([f"How does {lowered} work?", f"{lowered}: how?"])
        if lowered.startswith("how to "):
            return f"How do I {lowered[7:]}?"
        return chance.choice([f"What is {lowered}?", f"What is said about {lowered}?", f"Where do I find {lowered}?"])
    if drawn < 0.9:
        telling = [word for word in re.findall(r"[\w'.-]+", heading.lower()) if word not in STOPWORDS]
        return " ".join(telling) or heading
    at = chance.randrange(len(words))
    word = words[at]
    if len(word) > 3:
        place = chance.randrange(1, len(word) - 1)
        words[at] = chance.choice([
            word[:place] + word[place + 1:],
            word[:place] + word[place + 1] + word[place] + word[place + 2:],
            word[:place] + word[place] + word[place:],
        ])
    return " ".join(words)


def windows(text, size=WINDOWS[0]):
    words = text.split()
    return [" ".join(words[at:at + size]) for at in range(0, max(len(words) - size + STRIDE, 1), STRIDE)]


def window(pair, size, chance):
    """A part of the text of a pair: for an entry of an index the part with most of its words, else often the start."""
    parts = windows(pair["text"], size)
    if pair["kind"] == "index":
        asked = set(pair["question"].lower().split())
        return max(parts, key=lambda part: len(asked & set(part.lower().split())))
    return parts[0] if chance.random() < FROM_THE_START else chance.choice(parts)


class Batches:
    """Endless batches of pairs; each pair comes once before any of its package comes again."""

    def __init__(self, pairs, seed, hard):
        self.pairs, self.hard, self.chance = pairs, hard, random.Random(seed)
        self.packages = sorted(pairs)
        self.sizes = [len(pairs[package]) for package in self.packages]
        self.waiting = {package: {} for package in self.packages}
        self.of_text = {}
        for package in self.packages:
            for at, pair in enumerate(pairs[package]):
                self.of_text.setdefault(pair["text"], []).append((package, at))

    def of(self, package):
        if not self.waiting[package]:
            order = list(range(len(self.pairs[package])))
            self.chance.shuffle(order)
            self.waiting[package] = dict.fromkeys(order)
        return package, next(iter(self.waiting[package]))

    def beside(self, pair):
        """A pair that still waits, whose text is a hard negative of `pair`."""
        found = [place for text in pair.get("hard", []) for place in self.of_text.get(text, [])]
        found = [(package, at) for package, at in found if at in self.waiting[package]]
        return self.chance.choice(found) if found else None

    def next(self):
        one, batch, texts = self.chance.choices(self.packages, self.sizes)[0], [], set()
        of_one = OF_ONE_PACKAGE * PAIRS_OF_BATCH
        while len(batch) < PAIRS_OF_BATCH:
            place = self.beside(batch[-1]) if batch and self.chance.random() < self.hard else None
            if place is None:
                place = self.of(one if len(batch) < of_one else self.chance.choices(self.packages, self.sizes)[0])
            package, at = place
            del self.waiting[package][at]
            pair = self.pairs[package][at]
            # Two pairs with the same passage would each be wrong for the other.
            if pair["text"] not in texts:
                texts.add(pair["text"])
                batch.append(pair)
            else:
                # A small package may have no other passage.
                of_one = 0
        return batch


def chosen(cosines):
    """The loss of choosing a passage for each question, and a question for each passage."""
    scores, right = cosines / TEMPERATURE, torch.arange(len(cosines))
    return (functional.cross_entropy(scores, right) + functional.cross_entropy(scores.T, right)) / 2


def maxima(asked, asked_mask, passages, passage_mask):
    """For each question and passage, the mean over the question's tokens of the largest cosine to a token of the passage. Tokens have length 1."""
    cosines = torch.einsum("qid,pjd->qpij", asked, passages)
    cosines = cosines.masked_fill(passage_mask[None, :, None, :] == 0, -1.0).amax(-1)
    weights = asked_mask[:, None, :].float()
    return (cosines * weights).sum(-1) / weights.sum(-1)


def both(encoder, began, tokens, mask, frozen):
    """The vectors of texts and of their tokens, and the vectors by the model that it began from, which has the same first layers."""
    layers = encoder.config["num_hidden_layers"]
    with torch.no_grad():
        first = encoder.layers(encoder.embedded(tokens), mask, 0, frozen)
        before = began.pooled(began.layers(first, mask, frozen, layers), mask)[0] if began else None
    return *encoder.pooled(encoder.layers(first, mask, frozen, layers), mask), before


def loss_of(encoder, began, tokens, batch, step, arguments):
    chance = random.Random(arguments.seed * 1_000_003 + step)
    size = chance.choice(WINDOWS)
    questions = tokens([varied(pair["question"], pair["kind"], chance) for pair in batch], MAX_QUESTION)
    texts = tokens([window(pair, size, chance) for pair in batch], size * 4 // 3)
    pulls = arguments.pull > 0 and step % PULL_EVERY == 0
    (asked, asked_tokens, asked_before), (passages, passage_tokens, passages_before) = (
        both(encoder, began if pulls else None, *part, arguments.frozen) for part in (questions, texts)
    )
    sizes = [asked.shape[-1]] + ([128, 256] if arguments.short else [])
    short = [(functional.normalize(asked[:, :size], dim=-1), functional.normalize(passages[:, :size], dim=-1)) for size in sizes]
    choice = sum(chosen(one @ other.T) for one, other in short) / len(sizes)
    if arguments.tokens > 0:
        asked_tokens, passage_tokens = (functional.normalize(found[..., :arguments.token_numbers], dim=-1) for found in (asked_tokens, passage_tokens))
        choice = choice + arguments.tokens * chosen(maxima(asked_tokens, questions[1], passage_tokens, texts[1]))
    if not pulls:
        return choice, torch.zeros(())
    pull = (2 - (asked * asked_before).sum(-1).mean() - (passages * passages_before).sum(-1).mean()) / 2
    return choice, pull * PULL_EVERY


@torch.no_grad()
def measured(encoder, tokens, held):
    """nDCG@10 of the right text among all of its package, by the best window of each: by whole vectors, their first numbers, and by tokens."""

    def encoded(texts):
        """The vectors of texts, those of their tokens, and which of these are tokens; the order stays."""
        order, found = sorted(range(len(texts)), key=lambda at: len(texts[at])), [None] * len(texts)
        for at in range(0, len(order), ENCODED_AT_ONCE):
            part = order[at:at + ENCODED_AT_ONCE]
            ids, mask = tokens([texts[place] for place in part], MAX_TEXT)
            for place, *values in zip(part, *encoder(ids, mask), mask):
                found[place] = values
        vectors, tokens_of, masks = zip(*found)
        # Texts of a batch have the length of its longest.
        fill = lambda values: torch.nn.utils.rnn.pad_sequence(values, batch_first=True)
        return torch.stack(vectors), fill(tokens_of), fill(masks)

    gains = {name: [] for name in ("whole", "256", "128", "tokens", f"tokens {TOKEN_NUMBERS}")}
    for pairs in held.values():
        texts = list(dict.fromkeys(pair["text"] for pair in pairs))
        parts = [(at, part) for at, text in enumerate(texts) for part in windows(text)]
        owners = torch.tensor([at for at, _ in parts]).expand(len(pairs), -1)
        asked, asked_tokens, asked_mask = encoded([pair["question"] for pair in pairs])
        passages, passage_tokens, passage_mask = encoded([part for _, part in parts])
        right = torch.tensor([[texts.index(pair["text"])] for pair in pairs])
        for name, values in gains.items():
            if name.startswith("tokens"):
                size = TOKEN_NUMBERS if name != "tokens" else None
                short = [functional.normalize(found[..., :size], dim=-1) for found in (asked_tokens, passage_tokens)]
                one = lambda at: maxima(short[0][at:at + 1], asked_mask[at:at + 1], short[1], passage_mask)
                cosines = torch.cat([one(at) for at in range(len(pairs))])
            else:
                size = None if name == "whole" else int(name)
                short = [functional.normalize(vectors[:, :size], dim=-1) for vectors in (asked, passages)]
                cosines = short[0] @ short[1].T
            best = torch.full((len(pairs), len(texts)), -1.0).scatter_reduce(1, owners, cosines, "amax")
            ranks = (best > best.gather(1, right)).sum(1) + 1
            values += [1 / math.log2(rank + 1) if rank <= 10 else 0.0 for rank in ranks.tolist()]
    return {name: sum(values) / len(values) for name, values in gains.items()}


def read(file):
    pairs = {}
    for line in file.read_text().splitlines():
        pair = json.loads(line)
        pairs.setdefault(pair["package"], []).append(pair)
    return pairs


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("model", type=pathlib.Path)
    parser.add_argument("pairs", type=pathlib.Path)
    parser.add_argument("run", type=pathlib.Path)
    parser.add_argument("--held", type=pathlib.Path, help="pairs to measure at every checkpoint")
    parser.add_argument("--steps", type=int, default=4_200)
    parser.add_argument("--until", type=int, help="stop after this step; the rate falls as if all steps followed")
    parser.add_argument("--rate", type=float, default=2e-5)
    parser.add_argument("--pull", type=float, default=1.0)
    parser.add_argument("--hard", type=float, default=0.0, help="share of pairs that follow one that finds them")
    parser.add_argument("--frozen", type=int, default=3, help="layers that stay as they are, from the first")
    parser.add_argument("--round", action="store_true")
    parser.add_argument("--short", action="store_true")
    parser.add_argument("--tokens", type=float, default=0.0)
    parser.add_argument("--token-numbers", type=int, default=TOKEN_NUMBERS, help="numbers of a token that late interaction is learned by")
    parser.add_argument("--average", type=int, default=200, help="steps that the exported weights are the moving average of; 1 for the last")
    parser.add_argument("--seed", type=int, default=2026)
    arguments = parser.parse_args()
    torch.manual_seed(arguments.seed)

    config = json.loads((arguments.model / "config.json").read_text())
    tensors = load_file(arguments.model / "model.safetensors")
    tokens = Tokens(arguments.model)
    encoder, began = Encoder(tensors, config), Encoder(tensors, config)
    encoder.rounds = arguments.round
    # The words stay as they are packed: in 4 bits they would round most of what is learned away.
    stay = ["embeddings_", "pooler_", *(f"encoder_layer_{layer}_" for layer in range(arguments.frozen))]
    for name, weight in encoder.weights.items():
        weight.requires_grad_(not name.startswith(tuple(stay)))
    learned = [weight for weight in encoder.weights.values() if weight.requires_grad]
    # The model that is exported.
    average = copy.deepcopy(encoder).requires_grad_(False)
    optimiser = torch.optim.AdamW(learned, lr=arguments.rate, weight_decay=0.01)

    pairs, held = read(arguments.pairs), read(arguments.held) if arguments.held else {}
    count = sum(map(len, pairs.values()))
    print(f"{count} pairs of {len(pairs)} packages, {sum(weight.numel() for weight in learned)} numbers are learned")

    arguments.run.mkdir(parents=True, exist_ok=True)
    state, losses = arguments.run / "state.pt", arguments.run / "losses.csv"
    first = 0
    if state.exists():
        saved = torch.load(state, weights_only=True)
        encoder.load_state_dict(saved["encoder"])
        optimiser.load_state_dict(saved["optimiser"])
        average.load_state_dict(saved.get("average", saved["encoder"]))
        first = saved["step"]
        # What was written after the checkpoint is done again.
        kept = losses.read_text().splitlines()[: first + 1]
        losses.write_text("\n".join(kept) + "\n")
    else:
        losses.write_text("step,choice,pull,rate,seconds\n")

    def measure(step):
        if not held:
            return
        found, file = measured(average, tokens, held), arguments.run / "held.csv"
        with open(file, "a") as rows:
            if rows.tell() == 0:
                rows.write(f"step,{','.join(found)}\n")
            rows.write(f"{step},{','.join(f'{value:.4f}' for value in found.values())}\n")

    if first == 0:
        measure(0)
    stream = Batches(pairs, arguments.seed, arguments.hard)
    last, checkpoints = time.monotonic(), 0
    until = min(arguments.until or arguments.steps, arguments.steps)
    for step in range(until):
        batch = stream.next()
        if step < first:
            continue
        began_at = time.monotonic()
        rate = arguments.rate * min((step + 1) / WARM_UP, 1) * (1 - step / arguments.steps)
        for group in optimiser.param_groups:
            group["lr"] = rate
        choice, pull = loss_of(encoder, began, tokens, batch, step, arguments)
        optimiser.zero_grad()
        (choice + arguments.pull * pull).backward()
        torch.nn.utils.clip_grad_norm_(learned, 1.0)
        optimiser.step()
        with torch.no_grad():
            # The first steps count as much as those that follow.
            share = 1 / min(step + 1, arguments.average)
            for name, weight in encoder.weights.items():
                if weight.requires_grad:
                    average.weights[name].lerp_(weight, share)
        with open(losses, "a", newline="") as file:
            seconds = time.monotonic() - began_at
            csv.writer(file).writerow([step + 1, f"{choice.item():.4f}", f"{pull.item():.4f}", f"{rate:.2e}", f"{seconds:.1f}"])
        if time.monotonic() - last > CHECKPOINT_SECONDS or step + 1 == until:
            last = time.monotonic()
            save(encoder, average, optimiser, step + 1, tensors, arguments)
            print(f"step {step + 1}: choice {choice.item():.4f}, pull {pull.item():.4f}", flush=True)
            checkpoints += 1
            if checkpoints % MEASURED_CHECKPOINTS == 0 or step + 1 == until:
                measure(step + 1)


def save(encoder, average, optimiser, step, tensors, arguments):
    """Writes the state, and the model beside it, each in one step."""
    new = arguments.run / "state.new"
    torch.save({
        "encoder": encoder.state_dict(), "average": average.state_dict(), "optimiser": optimiser.state_dict(), "step": step,
    }, new)
    new.rename(arguments.run / "state.pt")
    folder = arguments.run / "model"
    # Everything but the weights stays as it was.
    weights = shutil.ignore_patterns("*.safetensors", "*.bin", "*.onnx")
    shutil.copytree(arguments.model, folder, ignore=weights, dirs_exist_ok=True)
    written = {
        name: average.get(name).detach().contiguous() if value.is_floating_point() else value for name, value in tensors.items()
    }
    save_file(written, folder / "model.new", metadata={"format": "pt"})
    (folder / "model.new").rename(folder / "model.safetensors")


if __name__ == "__main__":
    main()
