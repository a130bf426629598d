"""What the trainings share: the network's blocks, colours apart and together, and the way through the steps.

A training that is started again with the same state file goes on from there. Send it SIGTERM to stop: it saves first."""
import copy
import glob
import os
import signal
import time

import numpy as np
import torch
import torch.nn as nn
import torch.nn.functional as F

# The weights that are shipped are a running mean of those that are trained.
MEAN = 0.999
# Scenes that are held out to judge by.
HELD_OUT = 12


class Block(nn.Module):
    def __init__(self, width):
        super().__init__()
        self.a = nn.Conv2d(width, width, 3, padding=1)
        self.b = nn.Conv2d(width, width, 3, padding=1)
        self.b.weight.data *= 0.3

    def forward(self, x):
        return x + self.b(F.relu(self.a(x)))


THIRD, HALF, SIXTH = 3**-0.5, 2**-0.5, 6**-0.5
TO = torch.tensor([[THIRD, THIRD, THIRD], [HALF, 0, -HALF], [SIXTH, -2 * SIXTH, SIXTH]])


def apart(rgb):
    """Lightness and two colour differences, which stand square to each other."""
    return torch.einsum("ij,bjhw->bihw", TO, rgb)


def together(planes):
    return torch.einsum("ji,bjhw->bihw", TO, planes)


def encode(light):
    return torch.where(light <= 0.0031308, light * 12.92, 1.055 * light.clamp_min(1e-8) ** (1 / 2.4) - 0.055)


def scenes_in(folder):
    """The scenes to train on, and those held out."""
    scenes = [np.load(f) for f in sorted(glob.glob(folder + "/*.npy"))]
    return scenes[:-HELD_OUT], scenes[-HELD_OUT:]


def parts_of(scenes, rng, count, side):
    """Parts of scenes in linear light, turned and mirrored, dark and bright."""
    out = np.empty((count, side, side, 3), np.float32)
    for i in range(count):
        scene = scenes[rng.integers(len(scenes))]
        y, x = rng.integers(0, scene.shape[0] - side, 2)
        part = scene[y : y + side, x : x + side].astype(np.float32)
        if rng.random() < 0.5:
            part = part[::-1]
        if rng.random() < 0.5:
            part = part[:, ::-1]
        if rng.random() < 0.5:
            part = part.transpose(1, 0, 2)
        out[i] = part * np.exp(rng.uniform(-1.0, 0.4))
    return torch.from_numpy(out).permute(0, 3, 1, 2).clamp(0, 1)


def compared(batches, names):
    """A line for the log: signal to noise in dB over the held-out scenes, before and after, of two kinds of pictures apart. Each
    batch has what was there, what became of it, what it should be, and how many of the first kind there are."""
    said = [[[], []], [[], []]]
    with torch.no_grad():
        for was, became, wanted, first in batches:
            for found, of in zip((was, became), said):
                error = together(found).clamp(0, 1) - together(wanted)
                for i, power in enumerate((error**2).mean((1, 2, 3))):
                    of[int(i >= first)].append(-10 * float(torch.log10(power + 1e-9)))
    mean = lambda both: " / ".join(f"{np.mean(v):.2f}" for v in both)
    return f"{names} {mean(said[0])} -> {mean(said[1])} dB"


def train(net, state, steps, rate, loss_of, quality):
    """Trains `net` up to step `steps`. `loss_of(net, rng)` is the loss of a batch, `quality(mean)` a line for the log."""
    torch.set_num_threads(2)
    rng = np.random.default_rng(0)
    mean = copy.deepcopy(net)
    optimizer = torch.optim.Adam(net.parameters(), rate)
    step = 0
    print(f"{sum(p.numel() for p in net.parameters())} parameters", flush=True)
    if os.path.exists(state):
        kept = torch.load(state, weights_only=False)
        net.load_state_dict(kept["net"])
        mean.load_state_dict(kept["mean"])
        optimizer.load_state_dict(kept["optimizer"])
        step = kept["step"]
        rng = np.random.default_rng(step)
        torch.manual_seed(step)
        print(f"goes on from step {step}", flush=True)

    def save():
        kept = {"net": net.state_dict(), "mean": mean.state_dict(), "optimizer": optimizer.state_dict(), "step": step}
        torch.save(kept, state + ".part")
        os.replace(state + ".part", state)

    wanted = [True]
    signal.signal(signal.SIGTERM, lambda *_: wanted.__setitem__(0, False))
    begin = last = time.time()
    total, count = 0.0, 0
    while step < steps and wanted[0]:
        now = float(rate) * min(1, (step + 1) / 300) * max(0.005, 0.5 * (1 + np.cos(np.pi * step / steps)))
        for group in optimizer.param_groups:
            group["lr"] = float(now)
        loss = loss_of(net, rng)
        optimizer.zero_grad()
        loss.backward()
        torch.nn.utils.clip_grad_norm_(net.parameters(), 1.0)
        optimizer.step()
        step += 1
        keep = min(MEAN, step / (step + 10))
        with torch.no_grad():
            for m, p in zip(mean.parameters(), net.parameters()):
                m.lerp_(p, 1 - keep)
        total, count = total + loss.item(), count + 1
        if time.time() - last > 300:
            last = time.time()
            save()
            minutes = (last - begin) / 60
            print(f"{minutes:.1f} min step {step} of {steps} rate {now:.5f} loss {total / count:.4f} {quality(mean)}", flush=True)
            total, count = 0.0, 0
    save()
    print(f"stopped at step {step} of {steps}: {quality(mean)}", flush=True)
