"""Prints the inputs and outputs of every ONNX file below a directory, as onnx's own reader sees them."""

import json
import os
import sys

import onnx


def dimensions(tensor):
    if not tensor.HasField("shape"):
        return None
    out = []
    for d in tensor.shape.dim:
        kind = d.WhichOneof("value")
        out.append(d.dim_value if kind == "dim_value" else d.dim_param if kind else "")
    return out


def read(t):
    kind = t.WhichOneof("value")
    if kind in ("tensor_type", "sparse_tensor_type"):
        tensor = getattr(t, kind)
        name = onnx.TensorProto.DataType.Name(tensor.elem_type)
        inner = {"within": [], "type": name, "shape": dimensions(tensor)}
        return inner if kind == "tensor_type" else dict(inner, within=[["sparse", ""]])
    if kind == "map_type":
        key = onnx.TensorProto.DataType.Name(t.map_type.key_type)
        inner, outer = read(t.map_type.value_type), ["map", key]
    elif kind in ("sequence_type", "optional_type"):
        inner, outer = read(getattr(t, kind).elem_type), [kind.split("_")[0], ""]
    else:
        return None
    return inner and dict(inner, within=[outer] + inner["within"])


def values(infos, without=()):
    return [{"name": i.name, "value": read(i.type)} for i in infos if i.name not in without]


for folder, _, files in os.walk(sys.argv[1]):
    for name in sorted(files):
        if not name.endswith(".onnx"):
            continue
        path = os.path.join(folder, name)
        graph = onnx.load(path, load_external_data=False).graph
        weights = {t.name for t in graph.initializer}
        print(json.dumps({"file": path, "inputs": values(graph.input, weights), "outputs": values(graph.output)}))
