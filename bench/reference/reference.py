"""The forward pass once more, in numpy and 64-bit floats, written apart from the Rust code, for parity.

    pip install numpy tokenizers
    python bench/reference/reference.py MODEL < texts.json > parity.json

MODEL is a folder with config.json, tokenizer.json and model.safetensors; texts.json is a list of texts. What comes out has
for each text its tokens and its vector.
"""

import json
import math
import struct
import sys

import numpy as np
from tokenizers import Tokenizer

LONGEST = 256
DTYPES = {"F32": np.float32, "I64": np.int64}


def load(path):
    data = open(path, "rb").read()
    length = struct.unpack("<Q", data[:8])[0]
    header = json.loads(data[8 : 8 + length])
    tensors = {}
    for name, entry in header.items():
        if name != "__metadata__":
            begin, end = (8 + length + offset for offset in entry["data_offsets"])
            values = np.frombuffer(data[begin:end], dtype=DTYPES[entry["dtype"]]).reshape(entry["shape"])
            tensors[name] = values.astype(np.float64)
    return tensors


class Reference:
    def __init__(self, folder):
        self.weights = load(f"{folder}/model.safetensors")
        self.config = json.load(open(f"{folder}/config.json"))
        self.tokeniser = Tokenizer.from_file(f"{folder}/tokenizer.json")
        self.tokeniser.no_padding()
        self.tokeniser.enable_truncation(LONGEST)

    def norm(self, values, name):
        mean = values.mean(-1, keepdims=True)
        variance = ((values - mean) ** 2).mean(-1, keepdims=True)
        values = (values - mean) / np.sqrt(variance + self.config["layer_norm_eps"])
        return values * self.weights[f"{name}.LayerNorm.weight"] + self.weights[f"{name}.LayerNorm.bias"]

    def linear(self, values, name):
        return values @ self.weights[f"{name}.weight"].T + self.weights[f"{name}.bias"]

    def states(self, tokens):
        heads = self.config["num_attention_heads"]
        length, erf = len(tokens), np.vectorize(math.erf, otypes=[float])
        values = self.weights["embeddings.word_embeddings.weight"][tokens]
        values = values + self.weights["embeddings.position_embeddings.weight"][:length]
        values = values + self.weights["embeddings.token_type_embeddings.weight"][0]
        values = self.norm(values, "embeddings")
        for layer in range(self.config["num_hidden_layers"]):
            at = f"encoder.layer.{layer}"
            split = lambda part: self.linear(values, f"{at}.attention.self.{part}").reshape(length, heads, -1).swapaxes(0, 1)
            query, key, value = split("query"), split("key"), split("value")
            scores = query @ key.swapaxes(1, 2) / math.sqrt(query.shape[-1])
            shares = np.exp(scores - scores.max(-1, keepdims=True))
            shares = shares / shares.sum(-1, keepdims=True)
            context = (shares @ value).swapaxes(0, 1).reshape(length, -1)
            values = self.norm(values + self.linear(context, f"{at}.attention.output.dense"), f"{at}.attention.output")
            wide = self.linear(values, f"{at}.intermediate.dense")
            wide = wide * 0.5 * (1 + erf(wide / math.sqrt(2)))
            values = self.norm(values + self.linear(wide, f"{at}.output.dense"), f"{at}.output")
        return values

    def tokens(self, text):
        return self.tokeniser.encode(text).ids

    def vector(self, tokens):
        pooled = self.states(tokens).mean(0)
        return pooled / np.linalg.norm(pooled)


if __name__ == "__main__":
    reference = Reference(sys.argv[1])
    lines = []
    for text in json.load(sys.stdin):
        tokens = reference.tokens(text)
        vector = [round(float(value), 7) for value in reference.vector(tokens)]
        lines.append(json.dumps({"text": text, "tokens": tokens, "vector": vector}))
    print("[\n" + ",\n".join(lines) + "\n]")
