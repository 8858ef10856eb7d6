"""The general runtime for neural networks, as a peer of the benchmark `encoder`, which starts this and talks to it.

    pip install onnxruntime numpy
    python bench/reference/runtime.py MODEL.onnx THREADS

First comes a line of JSON, lists of texts as lists of tokens; then the number of a list, a line each time it is to be run.
Each time the seconds come back. Texts are sorted by length and padded in batches, so that little is padded.
"""

import json
import sys
import time

import numpy as np
import onnxruntime

BATCH = 32


def batches(texts):
    texts = sorted(texts, key=len)
    for begin in range(0, len(texts), BATCH):
        batch = texts[begin : begin + BATCH]
        length = max(len(text) for text in batch)
        tokens = np.zeros((len(batch), length), dtype=np.int64)
        mask = np.zeros_like(tokens)
        for row, text in enumerate(batch):
            tokens[row, : len(text)] = text
            mask[row, : len(text)] = 1
        yield {"input_ids": tokens, "attention_mask": mask, "token_type_ids": np.zeros_like(tokens)}


options = onnxruntime.SessionOptions()
options.intra_op_num_threads = int(sys.argv[2])
options.inter_op_num_threads = 1
# Its threads are not to keep the processor busy between its runs.
options.add_session_config_entry("session.force_spinning_stop", "1")
session = onnxruntime.InferenceSession(sys.argv[1], options)
known = {given.name for given in session.get_inputs()}
sets = [list(batches(texts)) for texts in json.loads(sys.stdin.readline())]
print(onnxruntime.__version__, flush=True)
for line in sys.stdin:
    since = time.perf_counter()
    for batch in sets[int(line)]:
        session.run(None, {name: values for name, values in batch.items() if name in known})
    print(time.perf_counter() - since, flush=True)
