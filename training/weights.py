"""Writes the trained network as the engine reads it, with what it needs to know about the range of each value.

    python weights.py SCENES STATE.pt OUT.safetensors        needs torch, numpy, pillow, safetensors

Besides the weights there is, for each of the network's inner pictures, the largest value that was met in the held-out
scenes: the engine computes with whole numbers, and that says how large one of them is. With a fourth name a small noisy
picture, its noise map and what the network makes of them here are written too: what the engine's own computation is
held against in its tests."""
import sys

import numpy as np
import torch
from safetensors.torch import save_file

SCENES, STATE, OUT = sys.argv[1:4]
PROOF = sys.argv[4] if len(sys.argv) > 4 else None
sys.argv = [sys.argv[0], SCENES, STATE, "0"]
import train  # noqa: E402

train.rng = np.random.default_rng(7)
torch.manual_seed(7)
scenes = [np.load(f) for f in sorted(train.glob.glob(SCENES + "/*.npy"))[-12:]]
sets = [train.batch(scenes) for _ in range(12)]
net = train.Net()
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
with torch.no_grad():
    for noisy, _, noise in sets:
        net(noisy, noise)
tensors = {name: values.contiguous() for name, values in net.state_dict().items()}
tensors |= {f"largest.{name}": torch.tensor([value]) for name, value in largest.items()}
save_file(tensors, OUT)
print({name: round(value, 2) for name, value in largest.items()})
if PROOF:
    noisy, _, noise = sets[0]
    # One with white noise and one with a camera's.
    proof = {}
    for name, i in [("white", 0), ("camera", 5)]:
        part = noisy[i : i + 1, :, :48, :64], noise[i : i + 1, :, :48, :64]
        with torch.no_grad():
            done = net(*part)
        proof |= {f"{name}.noisy": part[0][0], f"{name}.noise": part[1][0], f"{name}.done": done[0]}
    save_file({name: values.contiguous() for name, values in proof.items()}, PROOF)
