"""Writes a trained network as the engine reads it, with what it needs to know about the range of each value.

    python weights.py denoise|upscale|mosaic SCENES STATE.pt OUT.safetensors PROOF.safetensors        needs torch, numpy, pillow, safetensors

Besides the weights there is, for each of the network's inner pictures, the largest value that was met in the held-out
scenes: the engine computes with whole numbers, and that says how large one of them is. The proof is a small picture and what
the network makes of it here: what the engine's own computation is held against in its tests."""
import importlib
import sys

import numpy as np
import torch
import torch.nn.functional as F
from safetensors.torch import save_file

from parts import scenes_in

KIND, SCENES, STATE, OUT, PROOF = sys.argv[1:6]
work = importlib.import_module(KIND)
rng = np.random.default_rng(7)
torch.manual_seed(7)
sets = [work.batch(scenes_in(SCENES)[1], rng) for _ in range(12)]
net = work.Net()
net.load_state_dict(torch.load(STATE, weights_only=False)["mean"])

largest = {}


def meet(name, values):
    largest[name] = max(largest.get(name, 0.0), float(values.abs().max()))


def watch(block, stream, hidden):
    """Remembers how large the picture is that goes through a block, and the one inside it."""
    block.register_forward_hook(lambda _, taken, given: (meet(stream, taken[0]), meet(stream, given)) and None)
    block.a.register_forward_hook(lambda _, taken, given: meet(hidden, given.clamp_min(0)))


for k, block in enumerate(net.blocks):
    watch(block, "stream", f"blocks.{k}")


def given(one):
    """What a batch gives to the network: all but the wanted picture, which stands second."""
    return (one[0], *one[2:])


with torch.no_grad():
    for one in sets:
        net(*given(one))
tensors = {name: values.contiguous() for name, values in net.state_dict().items()}
head = tensors["head.weight"]
if head.shape[1] % 2:
    # Values go in by pairs: the last one's fellow counts nothing.
    tensors["head.weight"] = F.pad(head, (0, 0, 0, 0, 0, 1)).contiguous()
tensors |= {f"largest.{name}": torch.tensor([value]) for name, value in largest.items()}
save_file(tensors, OUT)
print({name: round(value, 2) for name, value in largest.items()})
# Two of what was trained on.
if KIND == "mosaic":
    levels = sets[0][2].mean((1, 2, 3))
    names = (("little", int(levels.argmin())), ("much", int(levels.argmax())))
else:
    names = {"denoise": (("white", 0), ("camera", 5)), "upscale": (("worn", 0), ("clean", work.BATCH // 2))}[KIND]
high, wide = {"denoise": (48, 64), "upscale": (32, 32), "mosaic": (24, 32)}[KIND]
seen = "small" if KIND == "upscale" else "noisy"
proof = {}
for name, i in names:
    part = [values[i : i + 1, :, :high, :wide] for values in given(sets[0])]
    with torch.no_grad():
        proof |= {f"{name}.done": net(*part)[0]}
    proof |= {f"{name}.{what}": values[0] for what, values in zip((seen, "noise"), part)}
save_file({name: values.contiguous() for name, values in proof.items()}, PROOF)
