#!/usr/bin/env python3
"""Trains the embedded sentence encoder on, to find the passage that answers, on the CPU.

    pip install torch safetensors tokenizers numpy
    python3 bench/train/train.py MODEL PAIRS RUN [--steps N] [--rate R] [--pull P] [--hard H]

MODEL is the folder of the model that it begins from (config.json, tokenizer.json, model.safetensors), PAIRS the file of `pairs.py`. RUN is the
folder of this run: `state.pt`, written every ten minutes, lets a later call go on where it was; `losses.csv` has each step; and `model/` is the trained
model, in the format that the packing tool reads.

A batch has 24 pairs, 60 % of them from one package, so that the passages are hard to tell apart. The loss is that of choosing the right passage
among all of the batch (InfoNCE, van den Oord and others, 2018) at a temperature of 0.05, both ways, and, weighted by `--pull`, the distance from the vectors
of the model that it began from. `--hard` adds a passage to each pair that the default search finds for it and that is not the right one, if PAIRS has them.

`--round` rounds weights and inputs of the layers to eight bits as the packed model does, and learns through the rounding. `--short` also asks the first 128
and 256 numbers of a vector, alone, to choose the right passage. `--tokens` weighs the same choice by the tokens of the last layer: for each token of the question
the nearest of the passage, on average (late interaction, Khattab and Zaharia, 2020).

Questions are varied: the heading as it is, a question made of it by rule, its telling words alone, or with typing errors. Everything random has a seed:
the same call gives the same losses, on the same machine and version of torch.
"""

import argparse
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
MAX_QUESTION, MAX_TEXT = 32, 160
WARM_UP = 100
CHECKPOINT_SECONDS = 600
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
        """The vectors of texts, and the states of their tokens."""
        heads = self.config["num_attention_heads"]
        batch, length = tokens.shape
        values = self.get("embeddings.word_embeddings.weight")[tokens]
        values = values + self.get("embeddings.position_embeddings.weight")[:length]
        values = values + self.get("embeddings.token_type_embeddings.weight")[0]
        values = self.norm(values, "embeddings")
        attended = mask[:, None, None, :].bool()
        for layer in range(self.config["num_hidden_layers"]):
            at = f"encoder.layer.{layer}"

            def split(part):
                return self.linear(values, f"{at}.attention.self.{part}").view(batch, length, heads, -1).transpose(1, 2)

            context = functional.scaled_dot_product_attention(split("query"), split("key"), split("value"), attn_mask=attended)
            context = context.transpose(1, 2).reshape(batch, length, -1)
            values = self.norm(values + self.linear(context, f"{at}.attention.output.dense"), f"{at}.attention.output")
            wide = functional.gelu(self.linear(values, f"{at}.intermediate.dense"))
            values = self.norm(values + self.linear(wide, f"{at}.output.dense"), f"{at}.output")
        weights = mask[:, :, None].float()
        return functional.normalize((values * weights).sum(1) / weights.sum(1), dim=-1), values


def rounded(values):
    """Values in eight bits, with a scale for each row. The gradient passes as if they were not rounded."""
    scale = values.detach().abs().amax(-1, keepdim=True).clamp_min(1e-9) / 127
    return values + ((values / scale).round() * scale - values).detach()


class Began:
    """The model that it began from. Passages come again, so their vectors are kept."""

    def __init__(self, encoder):
        self.encoder, self.kept = encoder, {}

    def of_batch(self, tokens, mask):
        return self.encoder(tokens, mask)[0]

    def of_texts(self, texts, tokens):
        new = [text for text in dict.fromkeys(texts) if text not in self.kept]
        if new:
            self.kept |= zip(new, self.of_batch(*tokens(new, MAX_TEXT)))
        return torch.stack([self.kept[text] for text in texts])


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


def batches(pairs, seed):
    """Endless batches of numbers of pairs; each pair comes once before any comes again, as far as packages allow."""
    chance = random.Random(seed)
    waiting = {}

    def of(package):
        if not waiting.get(package):
            waiting[package] = list(pairs[package])
            chance.shuffle(waiting[package])
        return waiting[package].pop()

    packages = sorted(pairs)
    sizes = [len(pairs[package]) for package in packages]
    while True:
        one = chance.choices(packages, sizes)[0]
        batch = []
        while len(batch) < PAIRS_OF_BATCH:
            package = one if len(batch) < OF_ONE_PACKAGE * PAIRS_OF_BATCH else chance.choices(packages, sizes)[0]
            pair = of(package)
            # Two pairs with the same passage would each be wrong for the other.
            if all(pair["text"] != other["text"] for other in batch) or len(pairs[package]) < PAIRS_OF_BATCH:
                batch.append(pair)
        yield batch


def chosen(cosines, count, arguments):
    """The loss of choosing a passage for each question, and a question for each of the first passages."""
    scores, right = cosines / TEMPERATURE, torch.arange(count)
    if arguments.hard > 0:
        weight = torch.zeros(scores.shape[1])
        weight[count:] = math.log(arguments.hard)
        scores = scores + weight
    return (functional.cross_entropy(scores, right) + functional.cross_entropy(scores[:, :count].T, right)) / 2


def maxima(asked, asked_mask, passages, passage_mask):
    """For each question and passage, the mean over the question's tokens of the largest cosine to a token of the passage."""
    asked, passages = functional.normalize(asked, dim=-1), functional.normalize(passages, dim=-1)
    cosines = torch.einsum("qid,pjd->qpij", asked, passages)
    cosines = cosines.masked_fill(passage_mask[None, :, None, :] == 0, -1.0).amax(-1)
    weights = asked_mask[:, None, :].float()
    return (cosines * weights).sum(-1) / weights.sum(-1)


def loss_of(encoder, began, tokens, batch, chance, arguments):
    questions = tokens([varied(pair["question"], pair["kind"], chance) for pair in batch], MAX_QUESTION)
    texts = [pair["text"] for pair in batch]
    if arguments.hard > 0:
        texts += [chance.choice(pair["hard"]) for pair in batch if pair.get("hard")]
    written, texts = texts, tokens(texts, MAX_TEXT)
    (asked, asked_tokens), (passages, passage_tokens) = encoder(*questions), encoder(*texts)
    with torch.no_grad():
        before = began.of_batch(*questions), began.of_texts(written, tokens)
    sizes = [asked.shape[-1]] + ([128, 256] if arguments.short else [])
    short = [(functional.normalize(asked[:, :size], dim=-1), functional.normalize(passages[:, :size], dim=-1)) for size in sizes]
    choice = sum(chosen(one @ other.T, len(batch), arguments) for one, other in short) / len(sizes)
    if arguments.tokens > 0:
        nearest = maxima(asked_tokens, questions[1], passage_tokens, texts[1])
        choice = choice + arguments.tokens * chosen(nearest, len(batch), arguments)
    pull = (2 - (asked * before[0]).sum(-1).mean() - (passages * before[1]).sum(-1).mean()) / 2
    return choice, pull


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("model", type=pathlib.Path)
    parser.add_argument("pairs", type=pathlib.Path)
    parser.add_argument("run", type=pathlib.Path)
    parser.add_argument("--steps", type=int, default=4_200)
    parser.add_argument("--until", type=int, help="stop after this step; the rate falls as if all steps followed")
    parser.add_argument("--rate", type=float, default=2e-5)
    parser.add_argument("--pull", type=float, default=1.0)
    parser.add_argument("--hard", type=float, default=0.0)
    parser.add_argument("--round", action="store_true")
    parser.add_argument("--short", action="store_true")
    parser.add_argument("--tokens", type=float, default=0.0)
    parser.add_argument("--seed", type=int, default=2026)
    arguments = parser.parse_args()
    torch.manual_seed(arguments.seed)

    config = json.loads((arguments.model / "config.json").read_text())
    tensors = load_file(arguments.model / "model.safetensors")
    tokens = Tokens(arguments.model)
    encoder, began = Encoder(tensors, config), Began(Encoder(tensors, config))
    encoder.rounds = arguments.round
    # The words stay as they are packed: in 4 bits they would round most of what is learned away.
    for name in ("word_embeddings", "position_embeddings", "token_type_embeddings"):
        encoder.get(f"embeddings.{name}.weight").requires_grad_(False)
    learned = [weight for name, weight in encoder.weights.items() if weight.requires_grad and "pooler" not in name]
    optimiser = torch.optim.AdamW(learned, lr=arguments.rate, weight_decay=0.01)

    pairs = {}
    for line in arguments.pairs.read_text().splitlines():
        pair = json.loads(line)
        pairs.setdefault(pair["package"], []).append(pair)
    count = sum(map(len, pairs.values()))
    print(f"{count} pairs of {len(pairs)} packages, {sum(weight.numel() for weight in learned)} numbers are learned")

    arguments.run.mkdir(parents=True, exist_ok=True)
    state, losses = arguments.run / "state.pt", arguments.run / "losses.csv"
    first = 0
    if state.exists():
        saved = torch.load(state, weights_only=True)
        encoder.load_state_dict(saved["encoder"])
        optimiser.load_state_dict(saved["optimiser"])
        first = saved["step"]
        # What was written after the checkpoint is done again.
        kept = losses.read_text().splitlines()[: first + 1]
        losses.write_text("\n".join(kept) + "\n")
    else:
        losses.write_text("step,choice,pull,rate,seconds\n")

    stream = batches(pairs, arguments.seed)
    last = time.monotonic()
    until = min(arguments.until or arguments.steps, arguments.steps)
    for step in range(until):
        batch = next(stream)
        if step < first:
            continue
        began_at = time.monotonic()
        rate = arguments.rate * min((step + 1) / WARM_UP, 1) * (1 - step / arguments.steps)
        for group in optimiser.param_groups:
            group["lr"] = rate
        choice, pull = loss_of(encoder, began, tokens, batch, random.Random(arguments.seed * 1_000_003 + step), arguments)
        optimiser.zero_grad()
        (choice + arguments.pull * pull).backward()
        torch.nn.utils.clip_grad_norm_(learned, 1.0)
        optimiser.step()
        with open(losses, "a", newline="") as file:
            seconds = time.monotonic() - began_at
            csv.writer(file).writerow([step + 1, f"{choice.item():.4f}", f"{pull.item():.4f}", f"{rate:.2e}", f"{seconds:.1f}"])
        if time.monotonic() - last > CHECKPOINT_SECONDS or step + 1 == until:
            last = time.monotonic()
            save(encoder, optimiser, step + 1, tensors, arguments)
            print(f"step {step + 1}: choice {choice.item():.4f}, pull {pull.item():.4f}", flush=True)


def save(encoder, optimiser, step, tensors, arguments):
    """Writes the state, and the model beside it, each in one step."""
    new = arguments.run / "state.new"
    torch.save({"encoder": encoder.state_dict(), "optimiser": optimiser.state_dict(), "step": step}, new)
    new.rename(arguments.run / "state.pt")
    folder = arguments.run / "model"
    # Everything but the weights stays as it was.
    weights = shutil.ignore_patterns("*.safetensors", "*.bin", "*.onnx")
    shutil.copytree(arguments.model, folder, ignore=weights, dirs_exist_ok=True)
    written = {
        name: encoder.get(name).detach().contiguous() if value.is_floating_point() else value for name, value in tensors.items()
    }
    save_file(written, folder / "model.new", metadata={"format": "pt"})
    (folder / "model.new").rename(folder / "model.safetensors")


if __name__ == "__main__":
    main()
