"""Trains the small network that takes noise out of camera raw and fills in its colours, on scenes drawn by scenes.py.

    python mosaic.py SCENES STATE.pt STEPS        needs torch, numpy, pillow

What a sensor counted behind its 2 x 2 filters goes in on the scale where its noise is even (Anscombe's root for counts, with
the reading's share), neutral things being alike and white 1, as the engine has it (crates/engine/src/raw/denoise.rs): four
values of a block side by side, and how strong the noise is behind each filter. Out come red, green and blue of its four pixels.

The truth is the same scene without noise, as the mean of what its counts would be on that scale.

Started again with the same state file, it goes on from there. Send it SIGTERM to stop: it saves first."""
import sys

import numpy as np
import torch
import torch.nn as nn
import torch.nn.functional as F

from parts import Block, parts_of, scenes_in, train

PATCH, BATCH, RATE = 96, 16, 5e-4
# Blocks are red, green, green, blue.
FILTERS = [0, 1, 1, 2]


class Net(nn.Module):
    """Residual blocks over blocks of filters."""

    def __init__(self, width=48, blocks=4):
        super().__init__()
        self.head = nn.Conv2d(4 + 4, width, 3, padding=1)
        self.blocks = nn.ModuleList([Block(width) for _ in range(blocks)])
        self.tail = nn.Conv2d(width, 12, 3, padding=1)

    def forward(self, counted, noise):
        """`counted` and `noise` B x 4 x H x W."""
        seen = self.head(torch.cat([counted - 0.4, noise * 8], 1))
        for block in self.blocks:
            seen = block(seen)
        return filled(counted) + self.tail(seen)


def filled(counted):
    """Colours filled in from the block alone: B x 12 x H x W, the four pixels of red, of green, of blue."""
    red, one, two, blue = counted.unbind(1)
    green = (one + two) / 2
    return torch.stack([red] * 4 + [green, one, two, green] + [blue] * 4, 1)


def batch(scenes, rng):
    """Noisy and clean blocks, and what is known of the noise."""
    light = parts_of(scenes, rng, BATCH, PATCH)
    spread = lambda low, high, *more: torch.from_numpy(rng.uniform(low, high, (BATCH, *(more or (1,)), 1, 1)).astype(np.float32))
    # Filters overlap; how much of each other's light they let through differs from camera to camera.
    mix = torch.from_numpy(rng.uniform(0, 0.3, (BATCH, 3, 3)).astype(np.float32)) + torch.eye(3)
    light = torch.einsum("bij,bjhw->bihw", mix / mix.sum(2, keepdim=True), light)
    # What is neutral counts so much of green's behind red and blue.
    neutral = spread(0.35, 1.0, 3)
    neutral[:, 1] = 1
    whole = F.pixel_unshuffle((light * neutral).clamp(0, 1), 2)
    seen = torch.stack([whole[:, 0], whole[:, 5], whole[:, 6], whole[:, 11]], 1)
    full = spread(np.log(100), np.log(60000)).exp()
    read = spread(1, 5) * torch.where(torch.rand(BATCH, 1, 1, 1) < 0.2, 3.0, 1.0)
    electrons = seen * full
    noisy = torch.minimum(torch.poisson(electrons) + torch.randn_like(electrons) * read, full)
    steady = lambda e, more: 2 * (e + more + read**2).clamp_min(0).sqrt()
    each = (1 / neutral).sqrt()
    each = each / (each.amax(1, keepdim=True) * steady(full, 0.375))
    factors = each[:, FILTERS]
    # The mean of a count's root is that of a quarter less.
    clean = steady(whole * full, 0.125) * each.repeat_interleave(4, 1)
    # A measurement of the noise is off by some share.
    told = factors * torch.from_numpy(np.exp(rng.normal(0, 0.08, (BATCH, 1, 1, 1))).astype(np.float32))
    noisy = steady(noisy, 0.375) * factors
    return noisy, clean, told.expand_as(noisy).contiguous()


def quality(net, sets):
    """Signal to noise in dB before and after, of little noise and of much apart."""
    said = [[[], []], [[], []]]
    with torch.no_grad():
        for noisy, clean, noise in sets:
            for found, of in zip((filled(noisy), net(noisy, noise)), said):
                for error, level in zip(((found - clean) ** 2).mean((1, 2, 3)), noise.mean((1, 2, 3))):
                    of[int(level > 0.015)].append(-10 * float(torch.log10(error + 1e-12)))
    mean = lambda both: " / ".join(f"{np.mean(v):.2f}" for v in both)
    return f"little / much {mean(said[0])} -> {mean(said[1])} dB"


def main():
    data, held_out = scenes_in(sys.argv[1])
    rng = np.random.default_rng(7)
    torch.manual_seed(7)
    sets = [batch(held_out, rng) for _ in range(8)]
    torch.manual_seed(0)

    def loss_of(net, rng):
        noisy, clean, noise = batch(data, rng)
        # Half way to units of the noise, so that weak noise is learned beside strong.
        scale = (noise.mean((1, 2, 3), keepdim=True) + 0.002).sqrt()
        return ((((net(noisy, noise) - clean) / scale) ** 2 + 1e-6).sqrt()).mean()

    train(Net(), sys.argv[2], int(sys.argv[3]), RATE, loss_of, lambda mean: quality(mean, sets))


if __name__ == "__main__":
    main()
