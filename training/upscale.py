"""Trains the small network that makes pictures twice as large each way, on scenes drawn by scenes.py.

    python upscale.py SCENES STATE.pt STEPS        needs torch, numpy, pillow

The network sees lightness and two colour differences, at the size of the small picture, and tells what the lightness of a
picture lacks that was enlarged by cubic interpolation. Colours stay as that makes them: in photographs they are soft, and what was
learned of the colours of drawn scenes made those of photographs worse by one to four decibels. Small pictures are means over the area of a pixel, in light or in encoded
values, of scenes more or less soft; a quarter of them get slight noise, most of those go through JPEG.

Started again with the same state file, it goes on from there. Send it SIGTERM to stop: it saves first."""
import io
import sys

import numpy as np
import torch
import torch.nn as nn
import torch.nn.functional as F
from PIL import Image

from parts import Block, apart, compared, encode, parts_of, scenes_in, train

SIDE, BATCH, RATE = 96, 16, 8e-4
# So many of a batch have noise.
WORN = BATCH // 4


class Net(nn.Module):
    """Residual blocks at the size of the small picture; four values of lightness for each of its pixels come out."""

    def __init__(self, width=32, blocks=5):
        super().__init__()
        self.head = nn.Conv2d(3, width, 3, padding=1)
        self.blocks = nn.ModuleList([Block(width) for _ in range(blocks)])
        self.tail = nn.Conv2d(width, 4, 3, padding=1)
        self.tail.weight.data *= 0.1

    def forward(self, planes):
        seen = self.head(planes - 0.4)
        for block in self.blocks:
            seen = block(seen)
        large = cubic(planes)
        return torch.cat([large[:, :1] + F.pixel_shuffle(self.tail(seen), 2), large[:, 1:]], 1)


# Cubic interpolation (R. Keys, 1981): four pixels for each of the two that one becomes.
CUBIC = torch.tensor([-0.0234375, 0.2265625, 0.8671875, -0.0703125])


def cubic(planes):
    """Twice as large each way; edges repeated."""

    def along(values, axis):
        values = values.transpose(axis, 3)
        size = values.shape
        wide = F.pad(values, (2, 2, 0, 0), mode="replicate")
        four = [wide[..., k : k + size[3]] for k in range(5)]
        first = sum(w * four[k] for k, w in enumerate(CUBIC))
        second = sum(w * four[k + 1] for k, w in enumerate(CUBIC.flip(0)))
        both = torch.stack([first, second], -1).reshape(*size[:3], size[3] * 2)
        return both.transpose(axis, 3)

    return along(along(planes, 3), 2)


def blurred(pictures, rng):
    """Each picture by a Gaussian of its own."""
    at = torch.arange(-4, 5).float()
    out = torch.empty_like(pictures)
    for i in range(len(pictures)):
        kernel = torch.exp(-at * at / (2 * float(rng.uniform(0.3, 1.3)) ** 2))
        kernel = (kernel / kernel.sum()).repeat(3, 1)
        one = F.pad(pictures[i : i + 1], (4, 4, 4, 4), mode="reflect")
        one = F.conv2d(one, kernel[:, None, None, :], groups=3)
        out[i] = F.conv2d(one, kernel[:, None, :, None], groups=3)[0]
    return out


def batch(scenes, rng):
    """Small encoded pictures, and the large ones they should become."""
    light = parts_of(scenes, rng, BATCH, SIDE)
    # Photographs are seldom as sharp as their pixels allow; what is soft is to stay so.
    soft = rng.random(BATCH) < 0.75
    light[soft] = blurred(light[soft], rng) if soft.any() else light[soft]
    large = encode(light)
    small = torch.empty(BATCH, 3, SIDE // 2, SIDE // 2)
    by_light = torch.from_numpy(rng.random(BATCH) < 0.15)
    small[by_light] = encode(F.avg_pool2d(light[by_light], 2))
    small[~by_light] = F.avg_pool2d(large[~by_light], 2)
    for i in range(WORN):
        # Noise that rises with lightness, and is even once more in half of the pictures.
        level = float(rng.uniform(0, 3.5)) / 255
        shot = small[i].sqrt() if rng.random() < 0.5 else 1.0
        grain = torch.randn_like(small[i])
        if rng.random() < 0.5:
            # A camera's noise is smooth from pixel to pixel, as its mosaic was.
            grain = F.avg_pool2d(F.pad(grain, (0, 1, 0, 1)), 2, 1) * 2
        small[i] = small[i] + grain * level * shot
    eight = (small.clamp(0, 1) * 255).round().byte().permute(0, 2, 3, 1).numpy()
    for i in range(WORN):
        if rng.random() < 0.75:
            file = io.BytesIO()
            sampling = 0 if rng.random() < 0.6 else 2
            Image.fromarray(eight[i]).save(file, "JPEG", quality=int(rng.integers(82, 98)), subsampling=sampling)
            eight[i] = np.asarray(Image.open(file))
    small = torch.from_numpy(eight).permute(0, 3, 1, 2).float() / 255
    return apart(small), apart(large)


def quality(net, sets):
    """Held against cubic interpolation, without what lies at the edge."""
    inner = lambda planes: planes[..., 8:-8, 8:-8]
    done = ((inner(cubic(small)), inner(net(small)), inner(large), WORN) for small, large in sets)
    return compared(done, "worn / clean")


def main():
    data, held_out = scenes_in(sys.argv[1])
    rng = np.random.default_rng(7)
    torch.manual_seed(7)
    sets = [batch(held_out, rng) for _ in range(6)]
    torch.manual_seed(0)

    def loss_of(net, rng):
        small, large = batch(data, rng)
        # What lies at the edge of a part lacks what is beyond it.
        off = (net(small) - large)[:, :1, 4:-4, 4:-4]
        return (off**2 + 1e-6).sqrt().mean()

    train(Net(), sys.argv[2], int(sys.argv[3]), RATE, loss_of, lambda mean: quality(mean, sets))


if __name__ == "__main__":
    main()
