"""Trains the small network that takes camera noise out of pictures, on scenes drawn by scenes.py.

    python denoise.py SCENES STATE.pt STEPS        needs torch, numpy, pillow

The network works on lightness and two colour differences, which stand square to each other (as the engine's denoising
does). Beside the picture it is given a map: how strong the noise is at each pixel, of lightness and of colour. What it
finds is told in units of that map, so a map of zero leaves the picture exactly as it is, and a person's strength scales
the map.

Noise is made as cameras make it: shot and read noise on a mosaic, two demosaics, a tone curve, JPEG; a quarter of each
batch has white noise instead. The map is what a measurement of the noisy picture would find: the deviation for each
lightness, with the error such a measurement has.

Started again with the same state file, it goes on from there. Send it SIGTERM to stop: it saves first."""
import io
import sys

import numpy as np
import torch
import torch.nn as nn
import torch.nn.functional as F
from PIL import Image

from parts import Block, apart, compared, encode, parts_of, scenes_in, train

PATCH, BATCH, RATE = 96, 16, 5e-4


# Noise below which less and less is taken out, down to nothing where there is none: one level of 8 bits.
FAINT = 1 / 255


class Net(nn.Module):
    """Residual blocks at half size."""

    def __init__(self, width=48, blocks=4):
        super().__init__()
        self.head = nn.Conv2d(12 + 2, width, 3, padding=1)
        self.blocks = nn.ModuleList([Block(width) for _ in range(blocks)])
        self.tail = nn.Conv2d(width, 12, 3, padding=1)

    def forward(self, planes, noise):
        """`planes` B x 3 x H x W, `noise` B x 2 x H x W (lightness, colour); sides a multiple of two."""
        half = F.avg_pool2d(noise, 2)
        seen = self.head(torch.cat([F.pixel_unshuffle(planes - 0.4, 2), half * 8], 1))
        for block in self.blocks:
            seen = block(seen)
        found = F.pixel_shuffle(self.tail(seen), 2)
        share = noise / (noise + FAINT)
        return planes - found * torch.cat([share[:, :1], share[:, 1:], share[:, 1:]], 1)


KERNEL_GREEN = torch.tensor([[0, 1, 0], [1, 4, 1], [0, 1, 0]]).float() / 4
KERNEL_COLOUR = torch.tensor([[1, 2, 1], [2, 4, 2], [1, 2, 1]]).float() / 4
BILINEAR = torch.stack([KERNEL_COLOUR, KERNEL_GREEN, KERNEL_COLOUR])[:, None]
# Gradient-corrected linear interpolation (H. Malvar, L. He, R. Cutler, 2004).
MALVAR = torch.stack([
    torch.tensor([[0, 0, -1, 0, 0], [0, 0, 2, 0, 0], [-1, 2, 4, 2, -1], [0, 0, 2, 0, 0], [0, 0, -1, 0, 0]]) / 8,
    torch.tensor([[0, 0, 0.5, 0, 0], [0, -1, 0, -1, 0], [-1, 4, 5, 4, -1], [0, -1, 0, -1, 0], [0, 0, 0.5, 0, 0]]) / 8,
    torch.tensor([[0, 0, -1, 0, 0], [0, -1, 4, -1, 0], [0.5, 0, 5, 0, 0.5], [0, -1, 4, -1, 0], [0, 0, -1, 0, 0]]) / 8,
    torch.tensor([[0, 0, -1.5, 0, 0], [0, 2, 0, 2, 0], [-1.5, 0, 6, 0, -1.5], [0, 2, 0, 2, 0], [0, 0, -1.5, 0, 0]]) / 8,
])[:, None]


def mosaic_masks(side):
    r, g, b = torch.zeros(3, side, side)
    r[0::2, 0::2] = 1
    g[0::2, 1::2] = 1
    g[1::2, 0::2] = 1
    b[1::2, 1::2] = 1
    return torch.stack([r, g, b])


MASKS = mosaic_masks(PATCH)


def demosaic(raw, kind):
    if kind == 0:
        return F.conv2d(F.pad(raw * MASKS[None], (1, 1, 1, 1), mode="reflect"), BILINEAR, groups=3)
    found = F.conv2d(F.pad(raw, (2, 2, 2, 2), mode="reflect"), MALVAR)
    r, g, b = MASKS
    even = torch.zeros_like(r)
    even[0::2] = 1
    red_rows, blue_rows = g * even, g * (1 - even)
    own = raw[:, 0]
    green = own * g + found[:, 0] * (r + b)
    red = own * r + found[:, 1] * red_rows + found[:, 2] * blue_rows + found[:, 3] * b
    blue = own * b + found[:, 2] * red_rows + found[:, 1] * blue_rows + found[:, 3] * r
    return torch.stack([red, green, blue], 1)


def through_jpeg(pictures, rng):
    eight = (pictures * 255).round().byte().permute(0, 2, 3, 1).numpy()
    for i in range(len(eight)):
        if rng.random() < 0.7:
            file = io.BytesIO()
            sampling = 0 if rng.random() < 0.7 else 2
            Image.fromarray(eight[i]).save(file, "JPEG", quality=int(rng.integers(82, 98)), subsampling=sampling)
            eight[i] = np.asarray(Image.open(file))
    return torch.from_numpy(eight).permute(0, 3, 1, 2).float() / 255


LEVELS = 12


def noise_map(noisy, clean, rng):
    """What a measurement finds: the deviation of lightness and of colour for each lightness, told at each pixel."""
    wrong = noisy - clean
    light = clean[:, 0] / 3**0.5
    seen = F.avg_pool2d(F.pad(noisy[:, :1], (2, 2, 2, 2), mode="reflect"), 5, 1)[:, 0] / 3**0.5
    maps = torch.empty(len(noisy), 2, *noisy.shape[2:])
    for i in range(len(noisy)):
        bins = (light[i] * LEVELS).long().clamp(0, LEVELS - 1).flatten()
        for c, planes in enumerate([[0], [1, 2]]):
            power = sum((wrong[i, p] ** 2).flatten() for p in planes) / len(planes)
            count = torch.bincount(bins, minlength=LEVELS).float()
            total = torch.bincount(bins, power, minlength=LEVELS)
            mean = total.sum() / count.sum()
            # Rare lightnesses are measured from few pixels: those lean on the mean of all.
            curve = ((total + 200 * mean) / (count + 200)).sqrt() * float(np.exp(rng.normal(0, 0.12)))
            at = (seen[i].clamp(0, 1) * LEVELS - 0.5).clamp(0, LEVELS - 1 - 1e-4)
            low = at.floor().long()
            part = at - low
            maps[i, c] = curve[low] * (1 - part) + curve[low + 1] * part
    return maps


def batch(scenes, rng):
    """Noisy and clean planes, and what is known of the noise."""
    light = parts_of(scenes, rng, BATCH, PATCH)
    white = BATCH // 4
    clean = encode(light[:white])
    level = torch.from_numpy(rng.uniform(0, 55, (white, 1, 1, 1)).astype(np.float32)) / 255
    noisy = ((clean + torch.randn_like(clean) * level).clamp(0, 1) * 255).round() / 255
    rest, many = light[white:], BATCH - white
    spread = lambda low, high: torch.from_numpy(rng.uniform(low, high, (many, 1, 1, 1)).astype(np.float32))
    full = spread(np.log(120), np.log(12000)).exp()
    mosaic = (rest * MASKS[None]).sum(1, keepdim=True)
    caught = torch.poisson(mosaic * full) / full + torch.randn_like(mosaic) * spread(1, 5) / full
    kind = int(rng.integers(0, 2))
    seen = through_jpeg(encode(demosaic(caught, kind).clamp(0, 1)), rng)
    truth = encode(demosaic(mosaic, kind).clamp(0, 1))
    noisy, clean = apart(torch.cat([noisy, seen])), apart(torch.cat([clean, truth]))
    return noisy, clean, noise_map(noisy, clean, rng)


def quality(net, sets):
    done = ((noisy, net(noisy, noise), clean, BATCH // 4) for noisy, clean, noise in sets)
    return compared(done, "white / camera")


def main():
    data, held_out = scenes_in(sys.argv[1])
    rng = np.random.default_rng(7)
    torch.manual_seed(7)
    sets = [batch(held_out, rng) for _ in range(6)]
    torch.manual_seed(0)

    def loss_of(net, rng):
        noisy, clean, noise = batch(data, rng)
        # Half way to units of the noise, so that weak noise is learned beside strong.
        scale = (noise.mean((1, 2, 3), keepdim=True) + 0.01).sqrt()
        return ((((net(noisy, noise) - clean) / scale) ** 2 + 1e-5).sqrt()).mean()

    train(Net(), sys.argv[2], int(sys.argv[3]), RATE, loss_of, lambda mean: quality(mean, sets))


if __name__ == "__main__":
    main()
