"""Makes a model that multiplies integers out of one that only keeps its weights as integers, for the peer of the benchmark
`encoder`.

    pip install onnxruntime onnx sympy
    python bench/reference/int8.py PACKED.onnx INT8.onnx
"""

import sys
import tempfile

import onnxruntime
from onnxruntime.quantization import QuantType, quantize_dynamic

with tempfile.TemporaryDirectory() as folder:
    options = onnxruntime.SessionOptions()
    # Folds the weights, times their scales, into 32-bit numbers.
    options.graph_optimization_level = onnxruntime.GraphOptimizationLevel.ORT_ENABLE_BASIC
    options.optimized_model_filepath = f"{folder}/whole.onnx"
    onnxruntime.InferenceSession(sys.argv[1], options)
    quantize_dynamic(f"{folder}/whole.onnx", sys.argv[2], weight_type=QuantType.QInt8, per_channel=True)
