#!/usr/bin/env python3
"""Lets other programs read what Rallo writes.

Delivers one picture in every format, with every number of bits and every colour profile the format has, from originals
that lie in all eight ways and carry camera data, and reads each result with Pillow, with libvips and with exiftool.
None of them may warn; size and colours must be the original's, and what was transparent must be so still.

    writing_check.py PROGRAM
"""

import io
import json
import pathlib
import subprocess
import sys
import tempfile
import warnings

import numpy as np
import pyvips
from PIL import Image, ImageCms, ImageOps

KINDS = {"jpeg": (8,), "png": (8, 16), "webp": (8,), "tiff": (8, 16, 32), "avif": (8,), "jxl": (8, 16)}
PROFILES = ("srgb", "display-p3", "op-rgb", "romm-rgb", "rec2020")
ENDING = {"jpeg": "jpg", "tiff": "tif"}
# Pillow and the libvips of its package have no JPEG XL.
NOT_BY_THEM = {"jxl"}
# exiftool's own notes about files that are as their standard says. It holds a TIFF against the baseline of 1992, which has
# neither deflate nor a fourth channel.
HARMLESS = ("[minor]", "Invalid value for IFD0 tag 0x0103 Compression", "Invalid value for IFD0 tag 0x0115 SamplesPerPixel")


def scene(width=60, height=40):
    y, x = np.mgrid[0:height, 0:width]
    return np.stack([40 + x * 3, 60 + y * 4, 200 - x - y], -1).clip(0, 255).astype(np.uint8)


def originals(folder):
    for way in range(1, 9):
        path = folder / f"way{way}.jpg"
        Image.fromarray(scene()).save(path, quality=98, subsampling=0)
        tags = [f"-Orientation#={way}", "-Make=Marlow", "-Model=Marlow 24", "-ISO=200", "-ExposureTime=1/250",
                "-FNumber=5.6", "-DateTimeOriginal=2026:05:04 09:31:07", "-Artist=Mara Quill"]
        subprocess.run(["exiftool", "-q", "-overwrite_original", *tags, path], check=True)


def deliveries():
    for form, depths in KINDS.items():
        for bits in depths:
            # An AVIF is always sRGB, and says so without a profile.
            for profile in PROFILES if form != "avif" else ("srgb",):
                values = {"kind": "pictures", "format": form, "name": f"{{stem}}-{form}-{bits}-{profile}",
                          "to": "subfolder", "profile": profile}
                if len(depths) > 1:
                    values["bits"] = str(bits)
                if form in ("jpeg", "webp", "avif", "jxl"):
                    values["quality"] = 95
                yield values


def by_pillow(path, wanted):
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        picture = Image.open(path)
        picture.load()
        profile = picture.info.get("icc_profile")
        way = picture.getexif().get(0x0112, 1)
    if said:
        return f"Pillow warns: {said[0].message}"
    if way != 1:
        return f"it says that it lies in way {way}, and is upright"
    if picture.format == "AVIF":
        profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    if not profile:
        return "Pillow finds no profile"
    picture = ImageOps.exif_transpose(picture)
    source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
    shown = ImageCms.profileToProfile(picture.convert("RGB"), source, ImageCms.createProfile("sRGB"), outputMode="RGB")
    result = np.asarray(shown).astype(float)
    if result.shape != wanted.shape:
        return f"Pillow reads {result.shape}, not {wanted.shape}"
    noise = 10 * np.log10(255**2 / max(1e-9, ((result - wanted) ** 2).mean()))
    return None if noise > 33 else f"Pillow reads other colours ({noise:.1f} dB)"


def by_vips(path, wanted):
    picture = pyvips.Image.new_from_file(str(path), fail_on="warning")
    picture.avg()
    if (picture.height, picture.width) != wanted.shape[:2]:
        return f"libvips reads {picture.width} × {picture.height}"
    return None


def by_exiftool(paths):
    ran = subprocess.run(
        ["exiftool", "-j", "-a", "-G4", "-validate", "-warning", "-error", *map(str, paths)],
        capture_output=True, text=True, check=False,
    )
    for entry in json.loads(ran.stdout):
        for key, text in entry.items():
            # The second of a kind is called Copy1:Warning, and so on.
            if key.split(":")[-1] in ("Warning", "Error") and not text.startswith(HARMLESS):
                yield pathlib.Path(entry["SourceFile"]), f"exiftool says: {text}"


def transparent(program, folder):
    """A picture that is transparent in parts stays so in every format that knows of it."""
    y, x = np.mgrid[0:40, 0:60]
    cover = np.clip(x * 6 - 40, 0, 255)
    original = np.dstack([scene(), cover]).astype(np.uint8)
    original[cover == 0, :3] = (255, 0, 255)
    (folder / "cut-out").mkdir()
    Image.fromarray(original).save(folder / "cut-out" / "leaf.png")
    kinds = [dict(values, name=f"{{stem}}-{values['format']}-{values.get('bits', 8)}") for values in deliveries()
             if values["profile"] == "srgb"]
    recipe = {"format": "rallo-recipe", "version": 1, "name": "cut out", "decode": {"background": "#00ff00"}, "steps": [],
              "deliveries": kinds}
    (folder / "cut-out.json").write_text(json.dumps(recipe))
    subprocess.run([program, "--data", folder / "data", "run", folder / "cut-out.json", "--from", folder / "cut-out", "--to",
                    folder / "cut-out-results"], capture_output=True, check=True)
    paths = sorted(p for p in (folder / "cut-out-results").rglob("*") if p.is_file())
    share = cover[..., None] / 255
    laid = original[..., :3] * share + np.array([0, 255, 0]) * (1 - share)
    for path in paths:
        form = path.stem.split("-")[1]
        if form in NOT_BY_THEM or path.stem.endswith("tiff-32"):
            continue
        if path.stem.endswith("tiff-16"):
            # Pillow has no four channels of 16 bits.
            result = pyvips.Image.new_from_file(str(path)).numpy().astype(float) / 257
        else:
            picture = Image.open(path)
            if picture.mode != ("RGB" if form == "jpeg" else "RGBA"):
                yield path, f"Pillow reads {picture.mode}"
                continue
            result = np.asarray(picture).astype(float)
        if form == "jpeg":
            if np.abs(result - laid).mean() > 3:
                yield path, "it is not laid on the recipe's colour"
            continue
        if np.abs(result[..., 3] - cover).max() > (6 if form == "avif" else 1):
            yield path, f"coverage differs by {np.abs(result[..., 3] - cover).max():.0f}"
        seen = np.abs(result[..., :3] - original[..., :3]).max(-1)[cover > 128].mean()
        if seen > 6:
            yield path, f"colours differ by {seen:.1f}"
    yield from by_exiftool(paths)
    if len(paths) != len(kinds):
        yield folder, f"{len(paths)} of {len(kinds)} cut-out files written"


def main():
    program, faults = sys.argv[1], []
    with tempfile.TemporaryDirectory() as given:
        folder = pathlib.Path(given)
        (folder / "in").mkdir()
        originals(folder / "in")
        recipe = {"format": "rallo-recipe", "version": 1, "name": "written", "steps": [], "deliveries": list(deliveries())}
        (folder / "recipe.json").write_text(json.dumps(recipe))
        ran = subprocess.run(
            [program, "--data", folder / "data", "run", folder / "recipe.json", "--from", folder / "in", "--to", folder / "out"],
            capture_output=True, text=True, check=False,
        )
        if ran.returncode:
            sys.exit(ran.stdout + ran.stderr)
        paths = sorted(p for p in (folder / "out").rglob("*") if p.is_file())
        wanted = {
            way: np.asarray(ImageOps.exif_transpose(Image.open(folder / "in" / f"way{way}.jpg"))).astype(float)
            for way in range(1, 9)
        }
        for path in paths:
            way, form = int(path.stem[3]), path.stem.split("-")[1]
            if form in NOT_BY_THEM:
                continue
            # Pillow has no colours in floating point or of 16 bits a sample.
            by_both = not ("tiff-32" in path.stem)
            for read in (by_pillow, by_vips) if by_both else (by_vips,):
                try:
                    fault = read(path, wanted[way])
                except Exception as e:  # Whatever a library refuses is a fault of the file.
                    fault = f"{read.__name__[3:]} refuses it: {e}"
                if fault:
                    faults.append((path, fault))
        faults.extend(by_exiftool(paths))
        faults.extend(transparent(program, folder))
        many = {}
        for path, fault in faults:
            many.setdefault((path.stem.split("-", 1)[-1], fault), []).append(path.name)
        for (kind, fault), names in many.items():
            print(f"  {kind}: {fault} ({len(names)} files)")
        expected = 8 * len(recipe["deliveries"])
        print(f"{len(paths)} files of {expected} written, {len(faults)} faults")
    sys.exit(1 if faults or len(paths) != expected else 0)


if __name__ == "__main__":
    main()
