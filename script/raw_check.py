#!/usr/bin/env python3
"""Lets other programs read the raw that Rallo hands on.

A made-up camera takes a chart of coloured patches, without noise, lying in several ways, with one and with two kinds of
calibration light. Rallo hands each on as linear DNG; libraw develops the original and the result with the same settings.
The two must look alike (CIE ΔE 2000 below 1 on the inside of every patch), and exiftool must find nothing to complain of
and the same camera data. Handed on with its shape, a chart is as the recipe crops it.

Then what a DNG may say besides is read: the neutral look is the chart by formula (ΔE 2000 below 1.5), a gain map doubles what
it covers, a tone curve and a table of hues do what they say, the light that is given is taken for white, and a profile of
one's own goes before the file's.

    raw_check.py PROGRAM
"""

import json
import pathlib
import struct
import subprocess
import sys
import tempfile

import numpy as np
import rawpy
import tifffile
from skimage.color import deltaE_ciede2000, rgb2lab

PATCH, COLUMNS, ROWS = 64, 6, 4
TO_XYZ = np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]])
COOL = np.array([[0.72, 0.18, 0.06], [-0.32, 1.16, 0.18], [-0.02, 0.16, 0.78]])
WARM = np.array([[0.80, 0.14, 0.02], [-0.36, 1.22, 0.16], [-0.04, 0.20, 0.66]])
NEUTRAL = np.array([0.52, 1.0, 0.66])
PATTERN = np.array([[0, 1], [1, 2]])
BLACK, WHITE = 512, 16383


def chart():
    """Linear sRGB of each patch: a row of greys, and colours around the circle, dark to light."""
    patches = np.empty((ROWS, COLUMNS, 3))
    patches[0] = np.linspace(0.03, 0.8, COLUMNS)[:, None]
    for row in range(1, ROWS):
        for column in range(COLUMNS):
            angle = 2 * np.pi * (column / COLUMNS + row / 9)
            hue = 0.5 + 0.4 * np.cos(angle - np.array([0, 2.0944, 4.1888]))
            patches[row, column] = hue * (0.12 + 0.2 * row)
    return np.kron(patches, np.ones((PATCH, PATCH, 1)))


def fractions(values):
    return [n for v in values for n in (int(round(v * 10000)), 10000)]


def take(path, way, lights, besides=(), light=1.0):
    """Writes what the camera counts of the chart."""
    matrix = np.diag(NEUTRAL / (COOL @ np.array([0.95047, 1.0, 1.08883]))) @ COOL
    seen = chart() @ (matrix @ TO_XYZ).T
    rows, columns = np.indices(seen.shape[:2])
    counts = np.take_along_axis(seen, PATTERN[rows % 2, columns % 2][..., None], 2)[..., 0].clip(0, 1)
    counts = np.round(light * counts * (WHITE - BLACK) + BLACK).astype(np.uint16)
    warm = np.diag(NEUTRAL / (WARM @ np.array([1.0985, 1.0, 0.3558]))) @ WARM
    first = [(50721, 10, 9, fractions(matrix.ravel()), True), (50778, 3, 1, 21, True)]
    if lights == 2:
        first = [(50721, 10, 9, fractions(warm.ravel()), True), (50722, 10, 9, fractions(matrix.ravel()), True),
                 (50778, 3, 1, 17, True), (50779, 3, 1, 21, True)]
    tags = [
        (33421, 3, 2, (2, 2), True), (33422, 1, 4, bytes(PATTERN.ravel().tolist()), True), (274, 3, 1, way, True),
        (271, 2, 0, "Marlow", True), (272, 2, 0, "Marlow 24 R", True), (50706, 1, 4, b"\1\4\0\0", True),
        (50708, 2, 0, "Marlow 24 R", True), (50714, 3, 1, BLACK, True), (50717, 3, 1, WHITE, True), *first,
        (50728, 5, 3, fractions(NEUTRAL), True), *besides,
    ]
    if not any(tag[0] == 50730 for tag in besides):
        tags.append((50730, 10, 1, [25, 100], True))
    tifffile.imwrite(path, counts, photometric=32803, metadata=None, software=False, extratags=tags)
    told = ["-ISO=200", "-ExposureTime=1/250", "-FNumber=5.6", "-FocalLength=35", "-LensModel=Marlow 35 mm",
            "-DateTimeOriginal=2026:05:04 09:31:07"]
    subprocess.run(["exiftool", "-q", "-overwrite_original", *told, path], check=True)


def developed(path):
    with rawpy.imread(str(path)) as raw:
        return raw.postprocess(use_camera_wb=True, no_auto_bright=True, output_bps=16, adjust_maximum_thr=0.0, demosaic_algorithm=rawpy.DemosaicAlgorithm.LINEAR) / 65535.0


def inside(picture):
    """The mean of the middle of every patch, whichever way the chart lies."""
    h, w = (s // PATCH for s in picture.shape[:2])
    cut = picture[: h * PATCH, : w * PATCH].reshape(h, PATCH, w, PATCH, 3)
    return cut[:, 12:-12, :, 12:-12].mean((1, 3))


def complaints(path):
    told = subprocess.run(["exiftool", "-j", "-a", "-G4", "-validate", "-warning", "-error", path], capture_output=True, text=True, check=False)
    entry = json.loads(told.stdout)[0]
    texts = [v for k, v in entry.items() if k.split(":")[-1] in ("Warning", "Error")]
    return [t for t in texts if not t.startswith("[minor]")]


def data_of(path):
    names = ["ISO", "ExposureTime", "FNumber", "FocalLength", "LensModel", "DateTimeOriginal", "Orientation", "UniqueCameraModel", "BaselineExposure"]
    told = subprocess.run(["exiftool", "-j", "-n", *[f"-{n}" for n in names], path], capture_output=True, text=True, check=True)
    return {k: v for k, v in json.loads(told.stdout)[0].items() if k != "SourceFile"}


def encoded(light):
    light = np.clip(light, 0, 1)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


def light_of(values):
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def gain_map():
    """One that doubles every pixel of the upper half."""
    rows, columns = ROWS * PATCH, COLUMNS * PATCH
    data = struct.pack(">10I", 0, 0, rows // 2, columns, 0, 1, 1, 1, 1, 1) + struct.pack(">4d", 1, 1, 0, 0) + struct.pack(">I", 1) + struct.pack(">f", 2.0)
    return struct.pack(">I", 1) + struct.pack(">4I", 9, 0x01030000, 0, len(data)) + data


def table_of_hues(turn):
    """Six hues, two saturations: each colour turned by so many degrees."""
    return np.tile(np.array([turn, 1.0, 1.0], np.float32), 12)


def own_profile(path):
    """A camera profile that halves the light."""
    name, curve = b"Marlow 24 R\0", struct.pack("<4f", 0, 0, 1, 0.5)
    at = 8 + 2 + 2 * 12 + 4
    entries = struct.pack("<HHII", 50708, 2, len(name), at) + struct.pack("<HHII", 50940, 11, 4, at + len(name))
    path.write_bytes(b"IIRC" + struct.pack("<I", 8) + struct.pack("<H", 2) + entries + struct.pack("<I", 0) + name + curve)


def besides(program, folder):
    """What a DNG may say besides, each held against what it says."""
    (folder / "more").mkdir()
    (folder / "data2" / "camera-profiles").mkdir(parents=True)
    level = (50730, 10, 1, [0, 100], True)
    curve = np.array([0, 0, 0.5, 0.25, 1, 0.5], np.float32)
    said = {
        "plain": [level], "map": [level, (51009, 7, len(gain_map()), gain_map(), True)],
        "curve": [level, (50940, 11, 6, curve, True)],
        "same-hues": [level, (50937, 4, 3, [6, 2, 1], True), (50938, 11, 36, table_of_hues(0), True)],
        "turned-hues": [level, (50937, 4, 3, [6, 2, 1], True), (50938, 11, 36, table_of_hues(120), True)],
    }
    for name, tags in said.items():
        take(folder / "more" / f"{name}.dng", 1, 1, tags, 0.4 if name == "map" else 1.0)
    truth, faults = chart(), []

    def by(name, decode, data="data", steps=(), delivery=None):
        delivery = delivery or {"kind": "pictures", "format": "tiff", "bits": "16"}
        recipe = {"format": "rallo-recipe", "version": 1, "name": "r", "steps": list(steps), "decode": {"raw": decode},
                  "deliveries": [{**delivery, "name": "{stem}", "to": "subfolder", "existing": "replace"}]}
        (folder / "recipe.json").write_text(json.dumps(recipe))
        out = folder / "besides"
        subprocess.run([program, "--data", folder / data, "run", folder / "recipe.json", "--from", folder / "more", "--to", out],
                       capture_output=True, check=True)
        return next(out.rglob(f"{name}.*"))

    def seen(name, decode, data="data"):
        return inside(light_of(tifffile.imread(by(name, decode, data)) / 65535.0))

    def alike(what, found, wanted, most):
        apart = deltaE_ciede2000(rgb2lab(encoded(found)), rgb2lab(encoded(wanted))).max()
        if apart >= most:
            faults.append(f"{what}: ΔE {apart:.2f}")
        return apart

    plain = inside(truth)
    neutral = alike("the neutral look", seen("plain", {"look": "neutral"}), plain, 1.5)
    linear = {"look": "linear"}
    mapped = 0.4 * plain
    mapped[: ROWS // 2] *= 2
    alike("the gain map", seen("map", linear), mapped, 1.0)
    alike("the curve", seen("curve", {"look": "camera"}), 0.5 * plain, 1.0)
    alike("a table that turns nothing", seen("same-hues", {"look": "neutral"}), plain, 1.5)
    # In the table's own primaries, so only roughly: red has become green, green blue.
    turned = seen("turned-hues", {"look": "neutral"})
    strong = plain[3, 0]
    if turned[3, 0].argmax() != (strong.argmax() + 1) % 3:
        faults.append("the table of hues does not turn them")
    alike("the light that is given", seen("plain", {**linear, "white": "given", "kelvin": 6504, "duv": 0.0032}), plain, 1.0)
    warm = seen("plain", {**linear, "white": "given", "kelvin": 3200})
    if not warm[0, 3, 2] > 1.5 * warm[0, 3, 0]:
        faults.append("a warm light that is given leaves the picture as warm as it was")
    own_profile(folder / "data2" / "camera-profiles" / "own.dcp")
    alike("a profile of one's own", seen("plain", {"look": "camera"}, "data2"), 0.5 * plain, 1.0)
    crop = [{"step": "crop", "proportion": "1:1", "place": "centre"}]
    shaped = by("plain", {}, steps=crop, delivery={"kind": "dng", "shaped": True})
    with rawpy.imread(str(shaped)) as raw:
        if (raw.sizes.width, raw.sizes.height) != (ROWS * PATCH, ROWS * PATCH):
            faults.append(f"the cropped raw is {raw.sizes.width} × {raw.sizes.height}")
    whole = inside(developed(folder / "more" / "plain.dng"))[:, 1:-1]
    alike("the cropped raw", light_of(inside(developed(shaped))), light_of(whole), 1.0)
    faults += [f"the cropped raw: exiftool says: {t}" for t in complaints(shaped)]
    return faults, neutral


def main():
    program, faults, most = sys.argv[1], [], 0.0
    with tempfile.TemporaryDirectory() as given:
        folder = pathlib.Path(given)
        (folder / "in").mkdir()
        for way in (1, 3, 6, 8):
            take(folder / "in" / f"way{way}.dng", way, 1)
        take(folder / "in" / "two-lights.dng", 1, 2)
        for name, steps, packing in (("plain", [], "lossless"), ("open", [], "none"), ("denoised", [{"step": "denoise"}], "lossless")):
            recipe = {"format": "rallo-recipe", "version": 1, "name": name, "steps": steps,
                      "deliveries": [{"kind": "dng", "name": "{stem}", "to": "subfolder", "compression": packing}]}
            (folder / "recipe.json").write_text(json.dumps(recipe))
            out = folder / name
            subprocess.run([program, "--data", folder / "data", "run", folder / "recipe.json", "--from", folder / "in", "--to", out],
                           capture_output=True, check=True)
            results = {p.stem: p for p in out.rglob("*.dng")}
            for original in sorted((folder / "in").iterdir()):
                result = results.get(original.stem)
                if result is None:
                    faults.append(f"{name}: {original.name} was not handed on")
                    continue
                before, after = (inside(developed(p)) for p in (original, result))
                if before.shape != after.shape:
                    faults.append(f"{name}: {original.name} lies otherwise")
                    continue
                apart = deltaE_ciede2000(rgb2lab(before), rgb2lab(after)).max()
                most = max(most, apart)
                if apart >= 1:
                    faults.append(f"{name}: {original.name} looks otherwise, ΔE {apart:.2f}")
                faults += [f"{name}: {original.name}: exiftool says: {t}" for t in complaints(result)]
                if data_of(original) != data_of(result):
                    faults.append(f"{name}: {original.name}: {data_of(original)} became {data_of(result)}")
        more, neutral = besides(program, folder)
        faults += more
    for fault in faults:
        print(f"  {fault}")
    print(f"16 raws handed on, largest difference ΔE {most:.2f}; neutral look ΔE {neutral:.2f} from the chart; {len(faults)} faults")
    sys.exit(1 if faults else 0)


if __name__ == "__main__":
    main()
