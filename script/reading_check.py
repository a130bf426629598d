#!/usr/bin/env python3
"""Reads odd and usual picture files with Rallo and with other libraries, and compares.

Writes several hundred small files of every format and kind that is met in people's folders (by Pillow, tifffile and
imagecodecs, some changed by hand afterwards), lets `rallo run` convert them without a step into 16-bit PNG, and holds
the result against what Pillow reads of the same file, or against the picture the file was made of where Pillow does
not read it.

    reading_check.py PROGRAM [--also FOLDER] [--keep FOLDER]

`--also` adds the files of a folder, such as the test pictures of an imaging library. Fails where fewer than 98 % are
read as they should, or where any file makes the program fail.
"""

import argparse
import collections
import io
import json
import pathlib
import struct
import subprocess
import sys
import tempfile
import warnings
import zlib

import imagecodecs
import numpy as np
import OpenEXR
import tifffile
from PIL import Image, ImageCms, ImageOps, PngImagePlugin

warnings.simplefilter("ignore")
LEAST = 0.98
SRGB = ImageCms.createProfile("sRGB")
ENDINGS = set(
    "jpg jpeg mpo png apng tif tiff webp gif bmp dib jp2 j2k pnm ppm pgm pbm pam tga ico avif heic jxl exr hdr".split()
)


def scene(width=46, height=34, channels=3, top=255, dtype=np.uint8):
    """Ramps, a disc and stripes: every channel another, smooth enough for lossy formats."""
    y, x = np.mgrid[0:height, 0:width]
    disc = ((x - width / 2) ** 2 + (y - height / 2) ** 2 < (height / 3) ** 2).astype(float)
    parts = [x / width, y / height, (x + y) / (width + height), 1 - x / width, 0.5 + 0.4 * np.sin(x / 5.0)]
    picture = np.stack([0.15 + 0.6 * parts[c] + 0.2 * disc for c in range(channels)], -1)
    picture = np.clip(picture, 0, 1) * top
    return (picture if np.issubdtype(dtype, np.floating) else np.round(picture)).astype(dtype)


def on_white(colours, cover):
    cover = cover[..., None] / 255.0
    return colours * cover + 255.0 * (1 - cover)


class Files:
    """The files, each with the picture it should be read as (0 … 255, red, green, blue), or None for Pillow's word."""

    def __init__(self, folder):
        self.folder, self.wanted, self.count = folder, {}, 0

    def add(self, kind, ending, data, wanted=None, least=None):
        """`least`: decibels that are near enough; without it every sample within one of 255."""
        self.count += 1
        name = f"{self.count:04d}-{kind}.{ending}"
        (self.folder / name).write_bytes(data)
        self.wanted[name] = (wanted, least)

    def saved(self, kind, ending, picture, form, wanted=None, least=None, **how):
        out = io.BytesIO()
        picture.save(out, form, **how)
        self.add(kind, ending, out.getvalue(), wanted, least)
        return out.getvalue()


def small(files):
    """Pictures of a pixel and of odd sides, where rows end within a byte and blocks are not full."""
    for width, height in ((1, 1), (7, 3), (3, 17)):
        colour = Image.fromarray(scene(width, height))
        for form, ending, modes in (
            ("PNG", "png", ("RGB", "1", "P")), ("GIF", "gif", ("P",)), ("BMP", "bmp", ("RGB", "1")), ("TIFF", "tif", ("RGB", "1", "P")),
            ("TGA", "tga", ("RGB",)), ("PPM", "pnm", ("RGB", "1")), ("WEBP", "webp", ("RGB",)), ("JPEG", "jpg", ("RGB",)),
            ("JPEG2000", "jp2", ("RGB",)),
        ):
            for mode in modes:
                how = {"lossless": True} if form == "WEBP" else {"quality": 95, "subsampling": 0} if form == "JPEG" else {}
                least = 30 if form == "JPEG" else None
                files.saved(f"{ending}-{width}x{height}-{mode}", ending, colour.convert(mode), form, least=least, **how)


def exif_of(way):
    exif = Image.Exif()
    exif[0x0112] = way
    return exif


def profile_bytes(name):
    return ImageCms.ImageCmsProfile(ImageCms.createProfile(name)).tobytes()


def jpegs(files):
    colour = Image.fromarray(scene(64, 48))
    grey = colour.convert("L")
    for mode, picture in (("rgb", colour), ("grey", grey)):
        for sampling in (0, 1, 2):
            for progressive in (False, True):
                files.saved(
                    f"jpeg-{mode}-{sampling}-{progressive}", "jpg", picture, "JPEG",
                    quality=90, subsampling=sampling, progressive=progressive, least=35,
                )
    for way in range(1, 9):
        files.saved(f"jpeg-way-{way}", "jpg", colour, "JPEG", quality=92, exif=exif_of(way), least=35)
    files.saved("jpeg-restart", "jpg", colour, "JPEG", quality=90, restart_marker_blocks=2, least=35)
    files.saved("jpeg-ink", "jpg", colour.convert("CMYK"), "JPEG", quality=95, least=35)
    files.saved("jpeg-mpo", "mpo", colour, "MPO", save_all=True, append_images=[grey.convert("RGB")], least=35)
    usual = files.saved("jpeg-usual", "jpg", colour, "JPEG", quality=92, least=35)
    table = usual.index(b"\xff\xdb")
    for n in (1, 5, 16):
        files.add("jpeg-junk", "jpg", usual[:table] + b"\x12" * n + usual[table:], least=35)
    files.add("jpeg-ff00", "jpg", usual[:table] + b"\xff\x00\xff\x00" + usual[table:], least=35)
    files.add("jpeg-fill", "jpg", usual[:table] + b"\xff\xff\xff" + usual[table:], least=35)
    files.add("jpeg-short-app14", "jpg", usual[:table] + b"\xff\xee\x00\x07Adobe" + usual[table:], least=35)
    bad = b"\xff\xe2\x00\x14ICC_PROFILE\0\x05\x02abcd"
    files.add("jpeg-bad-profile", "jpg", usual[:2] + bad + usual[2:], least=35)
    files.add("jpeg-trailing", "jpg", usual + b"\0" * 900, least=35)
    picture = scene(64, 48)
    lossless = imagecodecs.jpeg8_encode(picture, lossless=True)
    files.add("jpeg-lossless", "jpg", lossless, picture.astype(float))


def png_chunk(kind, body):
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


def pngs(files):
    picture = scene()
    colour, grey = Image.fromarray(picture), Image.fromarray(picture[..., 0])
    cover = scene(channels=5)[..., 4]
    clear = Image.fromarray(np.dstack([picture, cover]))
    for name, made in (
        ("rgb", colour), ("grey", grey), ("bit", grey.convert("1")), ("palette", colour.quantize(200)),
        ("palette4", colour.quantize(16)), ("palette2", colour.quantize(4)), ("palette1", colour.quantize(2)),
        ("rgba", clear), ("la", clear.convert("LA")),
    ):
        files.saved(f"png-{name}", "png", made, "PNG", least=45 if "a" == name[-1] else None)
    wide = scene(top=65535, dtype=np.uint16)
    wide_cover = np.dstack([wide, cover.astype(np.uint16) * 257])
    files.add("png-16", "png", imagecodecs.png_encode(wide), wide / 257.0)
    files.add("png-16-grey", "png", imagecodecs.png_encode(np.ascontiguousarray(wide[..., 0])), np.repeat(wide[..., :1] / 257.0, 3, -1))
    files.add("png-16-clear", "png", imagecodecs.png_encode(wide_cover), on_white(wide / 257.0, cover))
    files.saved("png-trns-rgb", "png", colour, "PNG", transparency=tuple(int(v) for v in picture[5, 5]), least=45)
    files.saved("png-trns-grey", "png", grey, "PNG", transparency=int(picture[5, 5, 0]), least=45)
    files.saved("png-trns-palette", "png", colour.quantize(64), "PNG", transparency=3, least=45)
    files.saved("png-apng", "png", colour, "PNG", save_all=True, append_images=[colour.rotate(90)], duration=100)
    for way in range(1, 9):
        files.saved(f"png-way-{way}", "png", colour, "PNG", exif=exif_of(way))
    for way in (3, 6):
        packet = (
            '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
            f'<rdf:Description xmlns:tiff="http://ns.adobe.com/tiff/1.0/" tiff:Orientation="{way}"/></rdf:RDF></x:xmpmeta>'
        )
        info = PngImagePlugin.PngInfo()
        info.add_itxt("XML:com.adobe.xmp", packet)
        files.saved(f"png-xmp-way-{way}", "png", colour, "PNG", pnginfo=info)
        raw = exif_of(way).tobytes()
        text = f"\nexif\n{len(raw):8}\n" + "\n".join(raw.hex()[i : i + 72] for i in range(0, len(raw) * 2, 72)) + "\n"
        for packed in (False, True):
            info = PngImagePlugin.PngInfo()
            info.add_text("Raw profile type exif", text, zip=packed)
            files.saved(f"png-text-way-{way}-{packed}", "png", colour, "PNG", pnginfo=info)
    usual = files.saved("png-usual", "png", colour, "PNG")
    wrong = png_chunk(b"tIME", b"\x07\xea\x05\x04\x09\x1f\x07")[:-4] + b"abcd"
    files.add("png-wrong-sum", "png", usual[:33] + wrong + usual[33:])
    for gamma in (1.0, 1 / 1.8):
        # What the file's numbers are as light, in sRGB.
        light = (picture / 255.0) ** (1 / gamma)
        shown = np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055) * 255
        chunk = png_chunk(b"gAMA", struct.pack(">I", round(gamma * 100000)))
        files.add(f"png-gamma-{gamma:.2f}", "png", usual[:33] + chunk + usual[33:], shown, 45)


def gifs(files):
    colour = Image.fromarray(scene())
    files.saved("gif", "gif", colour.quantize(128), "GIF")
    files.saved("gif-interlaced", "gif", colour.quantize(128), "GIF", interlace=True)
    files.saved("gif-clear", "gif", colour.quantize(128), "GIF", transparency=7, least=45)
    films = [colour.quantize(32), colour.rotate(180).quantize(32)]
    files.saved("gif-film", "gif", films[0], "GIF", save_all=True, append_images=films[1:], duration=50)
    grey = files.saved("gif-grey", "gif", colour.convert("L"), "GIF")
    # The same numbers without the table of colours: they are greys then.
    table = 3 << (grey[10] & 7) + 1
    files.add("gif-no-palette", "gif", grey[:10] + bytes([grey[10] & 0x7F]) + grey[11:13] + grey[13 + table :])


def bmp_file(head, pixels, palette=b""):
    offset = 14 + len(head) + len(palette)
    return b"BM" + struct.pack("<IHHI", offset + len(pixels), 0, 0, offset) + head + palette + pixels


def bmps(files):
    picture = scene(40, 30)
    colour = Image.fromarray(picture)
    for name, made in (("rgb", colour), ("grey", colour.convert("L")), ("bit", colour.convert("1")),
                       ("palette", colour.quantize(100)), ("clear", colour.convert("RGBA"))):
        files.saved(f"bmp-{name}", "bmp", made, "BMP")
    rows = picture[::-1, :, ::-1].tobytes()
    wanted = picture.astype(float)
    head = struct.pack("<IiiHHIIiiII", 40, 40, 30, 1, 24, 0, len(rows), 2835, 2835, 0, 0)
    files.add("bmp-40", "bmp", bmp_file(head, rows), wanted)
    files.add("bmp-12", "bmp", bmp_file(struct.pack("<IHHHH", 12, 40, 30, 1, 24), rows), wanted)
    files.add("bmp-16", "bmp", bmp_file(struct.pack("<IIIHH", 16, 40, 30, 1, 24), rows), wanted)
    os2 = struct.pack("<IIIHHIIIIII", 64, 40, 30, 1, 24, 0, len(rows), 0, 0, 0, 0) + b"\0" * 24
    files.add("bmp-64", "bmp", bmp_file(os2, rows), wanted)
    for length in (52, 56, 108, 124):
        long = struct.pack("<I", length) + head[4:] + b"\0" * (length - 40)
        files.add(f"bmp-{length}", "bmp", bmp_file(long, rows), wanted)
    flat = picture[..., 1] // 16
    table = b"".join(bytes([v * 17, v * 17, v * 17, 0]) for v in range(16)) + b"\0" * 4 * 240
    grey = np.repeat(flat[..., None] * 17.0, 3, -1)
    runs = bytearray()
    for row in flat[::-1]:
        for value in row:
            runs += bytes([1, value])
        runs += b"\0\0"
    runs += b"\0\1"
    rle = struct.pack("<IiiHHIIiiII", 40, 40, 30, 1, 8, 1, len(runs), 0, 0, 256, 0)
    files.add("bmp-rle8", "bmp", bmp_file(rle, bytes(runs), table), grey)
    runs = bytearray()
    for row in flat[::-1]:
        for value in row:
            runs += bytes([1, value << 4])
        runs += b"\0\0"
    runs += b"\0\1"
    rle = struct.pack("<IiiHHIIiiII", 40, 40, 30, 1, 4, 2, len(runs), 0, 0, 16, 0)
    files.add("bmp-rle4", "bmp", bmp_file(rle, bytes(runs), table[:64]), grey)
    for name, masks, bits in (("565", (0xF800, 0x7E0, 0x1F), (5, 6, 5)), ("555", (0x7C00, 0x3E0, 0x1F), (5, 5, 5))):
        parts = [picture[::-1, :, c].astype(np.uint16) >> (8 - b) for c, b in enumerate(bits)]
        shifts = (11, 5, 0) if name == "565" else (10, 5, 0)
        words = sum(p << s for p, s in zip(parts, shifts)).astype("<u2")
        scaled = np.dstack([p[::-1] * 255.0 / ((1 << b) - 1) for p, b in zip(parts, bits)])
        fields = struct.pack("<IiiHHIIiiII", 40, 40, 30, 1, 16, 3, words.nbytes, 0, 0, 0, 0)
        files.add(f"bmp-{name}", "bmp", bmp_file(fields, words.tobytes(), struct.pack("<III", *masks)), scaled)
    for name, form, code in (("jpeg", "JPEG", 4), ("png", "PNG", 5)):
        out = io.BytesIO()
        colour.save(out, form)
        fields = struct.pack("<IiiHHIIiiII", 40, 40, -30, 1, 0, code, len(out.getvalue()), 0, 0, 0, 0)
        files.add(f"bmp-holds-{name}", "bmp", bmp_file(fields, out.getvalue()), wanted, 33)


def tiff_bytes(picture, **how):
    out = io.BytesIO()
    tifffile.imwrite(out, picture, metadata=None, software=False, **how)
    return out.getvalue()


def tiffs(files):
    eight, wide = scene(80, 64), scene(80, 64, top=65535, dtype=np.uint16)
    packings = [None, "lzw", "deflate", "packbits", "zstd", "lzma"]
    for packing in packings:
        for predictor in (False, True):
            if predictor and packing in (None, "packbits"):
                continue
            for tile in (None, (16, 32)):
                for planar in ("contig", "separate"):
                    for picture, name, scale in ((eight, "8", 1), (wide, "16", 257)):
                        shaped = picture if planar == "contig" else np.moveaxis(picture, -1, 0)
                        files.add(
                            f"tiff-{packing}-{predictor}-{tile is not None}-{planar}-{name}", "tif",
                            tiff_bytes(shaped, photometric="rgb", planarconfig=planar, compression=packing,
                                       predictor=predictor, tile=tile),
                            picture.astype(float) / scale,
                        )
    for order in "<>":
        for big in (False, True):
            for picture, name, scale in ((eight, "8", 1), (wide, "16", 257)):
                files.add(f"tiff-{'little' if order == '<' else 'big'}-{big}-{name}", "tif",
                          tiff_bytes(picture, photometric="rgb", byteorder=order, bigtiff=big),
                          picture.astype(float) / scale)
    grey = scene(80, 64)[..., 0]
    spread = np.repeat(grey[..., None].astype(float), 3, -1)
    for photometric in ("minisblack", "miniswhite"):
        shown = spread if photometric == "minisblack" else 255 - spread
        files.add(f"tiff-{photometric}", "tif", tiff_bytes(grey, photometric=photometric), shown)
        files.add(f"tiff-{photometric}-16", "tif",
                  tiff_bytes(grey.astype(np.uint16) * 257, photometric=photometric), shown)
        for bits in (2, 4):
            small = (grey >> (8 - bits)).astype(np.uint8)
            packed = np.frombuffer(imagecodecs.packints_encode(small.ravel(), bits), np.uint8)
            data = few_bits(packed.tobytes(), 80, 64, bits, photometric == "miniswhite")
            level = np.repeat((small * 255.0 / ((1 << bits) - 1))[..., None], 3, -1)
            files.add(f"tiff-{photometric}-{bits}-bits", "tif", data, level if photometric == "minisblack" else 255 - level)
    twelve = (scene(80, 64, top=4095, dtype=np.uint16)[..., 0])
    packed = imagecodecs.packints_encode(twelve.ravel(), 12)
    files.add("tiff-12-bits", "tif", few_bits(packed, 80, 64, 12, False),
              np.repeat((twelve / 4095.0 * 255)[..., None], 3, -1))
    files.add("tiff-32-bits", "tif", tiff_bytes(wide.astype(np.uint32) * 65537, photometric="rgb"), wide / 257.0)
    files.add("tiff-signed-16", "tif",
              tiff_bytes((wide.astype(np.int32) - 32768).astype(np.int16), photometric="rgb"), wide / 257.0)
    for kind in (np.float16, np.float32, np.float64):
        light = scene(80, 64, top=1, dtype=kind)
        files.add(f"tiff-{np.dtype(kind).name}", "tif", tiff_bytes(light, photometric="rgb"), light.astype(float) * 255)
    table = (np.stack([np.arange(256), 255 - np.arange(256), np.arange(256) // 2]) * 257).astype(np.uint16)
    files.add("tiff-palette", "tif", tiff_bytes(grey, photometric="palette", colormap=table),
              np.stack([table[c][grey] / 257.0 for c in range(3)], -1))
    cover = scene(80, 64, channels=5)[..., 4]
    for extra in ("unassalpha", "assocalpha", "unspecified"):
        colours = eight if extra != "assocalpha" else (eight * (cover[..., None] / 255.0)).astype(np.uint8)
        wanted = eight.astype(float) if extra == "unspecified" else on_white(
            eight.astype(float), cover) if extra == "unassalpha" else colours + 255.0 - cover[..., None]
        files.add(f"tiff-{extra}", "tif",
                  tiff_bytes(np.dstack([colours, cover]), photometric="rgb", extrasamples=[extra]), wanted)
    inks = scene(80, 64, channels=4)
    left = (255 - inks[..., :3].astype(float)) * (255 - inks[..., 3:].astype(float)) / 255
    for picture, name in ((inks, "8"), (inks.astype(np.uint16) * 257, "16")):
        files.add(f"tiff-ink-{name}", "tif", tiff_bytes(picture, photometric="separated"), left)
    small = Image.fromarray(eight)
    for packing in ("group3", "group4", "packbits", "tiff_ccitt", None):
        how = {"compression": packing} if packing else {}
        files.saved(f"tiff-bit-{packing}", "tif", small.convert("1"), "TIFF", **how)
    files.saved("tiff-jpeg", "tif", small, "TIFF", compression="jpeg", quality=92, least=33)
    files.saved("tiff-jpeg-grey", "tif", small.convert("L"), "TIFF", compression="jpeg", quality=92, least=35)
    files.add("tiff-webp", "tif", tiff_bytes(eight, photometric="rgb", compression="webp"), eight.astype(float), 30)
    files.saved("tiff-pages", "tif", small, "TIFF", save_all=True, append_images=[small.rotate(90)])
    for mode in ("LAB", "CMYK", "L", "P", "RGBA", "LA", "I;16"):
        if mode == "LAB":
            lab = ImageCms.profileToProfile(small, SRGB, ImageCms.createProfile("LAB"), outputMode="LAB")
            files.saved("tiff-lab", "tif", lab, "TIFF", wanted=eight.astype(float), least=35)
        elif mode == "I;16":
            files.saved("tiff-i16", "tif", Image.fromarray(wide[..., 0]), "TIFF")
        else:
            files.saved(f"tiff-mode-{mode}", "tif", small.convert(mode), "TIFF", least=35 if mode == "CMYK" else 45)
    for way in range(1, 9):
        files.saved(f"tiff-way-{way}", "tif", small, "TIFF", exif=exif_of(way))


def few_bits(packed, width, height, bits, white):
    """A TIFF of one strip of packed numbers, which tifffile does not write."""
    entries = [(256, 4, width), (257, 4, height), (258, 3, bits), (259, 3, 1), (262, 3, 0 if white else 1),
               (273, 4, 8), (277, 3, 1), (278, 4, height), (279, 4, len(packed))]
    body = bytes(packed) + b"\0" * (len(packed) % 2)
    directory = struct.pack("<H", len(entries))
    for tag, kind, value in entries:
        directory += struct.pack("<HHI", tag, kind, 1) + (struct.pack("<HH", value, 0) if kind == 3 else struct.pack("<I", value))
    return b"II*\0" + struct.pack("<I", 8 + len(body)) + body + directory + b"\0\0\0\0"


def webps(files):
    picture = scene(64, 48)
    colour = Image.fromarray(picture)
    clear = Image.fromarray(np.dstack([picture, scene(64, 48, channels=5)[..., 4]]))
    for name, made in (("rgb", colour), ("clear", clear)):
        for lossless in (False, True):
            files.saved(f"webp-{name}-{lossless}", "webp", made, "WEBP", lossless=lossless, quality=90, exact=True,
                        least=35 if not lossless else 45 if name == "clear" else None)
    for way in range(1, 9):
        files.saved(f"webp-way-{way}", "webp", colour, "WEBP", lossless=True, exif=exif_of(way))
    files.saved("webp-exif-head", "webp", colour, "WEBP", lossless=True, exif=b"Exif\0\0" + exif_of(6).tobytes())
    files.saved("webp-film", "webp", colour, "WEBP", lossless=True, save_all=True, append_images=[colour.rotate(180)])
    for way in (3, 6, 8):
        files.saved(f"avif-way-{way}", "avif", colour, "AVIF", quality=92, exif=exif_of(way), least=33)
    files.saved("avif", "avif", colour, "AVIF", quality=92, least=33)
    files.saved("avif-clear", "avif", clear, "AVIF", quality=92, least=30)
    files.add("jxl", "jxl", imagecodecs.jpegxl_encode(picture, lossless=True), picture.astype(float))
    wide = scene(64, 48, top=65535, dtype=np.uint16)
    # This library takes 16 bits for light, and its files say so.
    light = wide / 65535.0
    shown = np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055) * 255
    files.add("jxl-16", "jxl", imagecodecs.jpegxl_encode(wide, lossless=True), shown, 45)


def others(files):
    picture = scene(64, 48)
    colour = Image.fromarray(picture)
    clear = Image.fromarray(np.dstack([picture, scene(64, 48, channels=5)[..., 4]]))
    for ending in ("jp2", "j2k"):
        for name, made in (("rgb", colour), ("grey", colour.convert("L")), ("clear", clear), ("la", clear.convert("LA"))):
            files.saved(f"{ending}-{name}", ending, made, "JPEG2000", least=45 if name in ("clear", "la") else None)
        files.saved(f"{ending}-lossy", ending, colour, "JPEG2000", irreversible=True, quality_mode="dB",
                    quality_layers=[42], least=35)
        files.saved(f"{ending}-tiles", ending, colour, "JPEG2000", tile_size=(32, 32))
    wide = scene(64, 48, top=65535, dtype=np.uint16)
    files.add("jp2-16", "jp2", imagecodecs.jpeg2k_encode(wide, level=0, reversible=True), wide / 257.0)
    for ending, mode in (("ppm", "RGB"), ("pgm", "L"), ("pbm", "1")):
        files.saved(f"pnm-{ending}", ending, colour.convert(mode), "PPM")
    plain = " ".join(str(v) for v in picture.ravel())
    files.add("pnm-plain", "ppm", f"P3\n# by hand\n64 48\n255\n{plain}\n".encode(), picture.astype(float))
    big = scene(64, 48, top=65535, dtype=np.uint16)
    files.add("pnm-16", "ppm", b"P6 64 48 65535\n" + big.astype(">u2").tobytes(), big / 257.0)
    files.add("pam", "pam", b"P7\nWIDTH 64\nHEIGHT 48\nDEPTH 3\nMAXVAL 255\nTUPLTYPE RGB\nENDHDR\n" + picture.tobytes(),
              picture.astype(float))
    for mode in ("RGB", "RGBA", "L", "LA", "P"):
        for packed in (False, True):
            for way in (1, -1):
                made = clear.convert(mode) if mode != "P" else colour.quantize(64)
                files.saved(f"tga-{mode}-{packed}-{way}", "tga", made, "TGA", rle=packed, orientation=way,
                            least=45 if "A" in mode else None)
    files.saved("ico", "ico", clear.resize((48, 48)), "ICO", sizes=[(48, 48)], least=40)
    files.saved("ico-bmp", "ico", clear.resize((32, 32)), "ICO", sizes=[(32, 32)], bitmap_format="bmp", least=40)
    light = scene(64, 48, top=1, dtype=np.float32)
    shown = np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055) * 255.0
    files.add("hdr", "hdr", imagecodecs.rgbe_encode(light), shown, 40)
    for half in (False, True):
        values = light.astype(np.float16 if half else np.float32)
        path = files.folder / "written.exr"
        OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": OpenEXR.Channel(values)}).write(str(path))
        files.add(f"exr-{'half' if half else 'float'}", "exr", path.read_bytes(), shown, 45)
        path.unlink()


def by_pillow(path):
    """What Pillow makes of a file: red, green and blue on white, 0 … 255, upright, in sRGB; and the decibels that are
    near enough, None for exact. None where only the size can be compared."""
    picture = Image.open(path)
    picture.load()
    form, profile = picture.format, picture.info.get("icc_profile")
    clear = picture.mode in ("RGBA", "LA", "PA", "RGBa", "La") or "transparency" in picture.info
    try:
        picture = ImageOps.exif_transpose(picture)
    except Exception:  # What it cannot read there, it leaves.
        pass
    if picture.mode.startswith("I;16") and clear:
        return None, None, picture.size
    if picture.mode.startswith("I;16"):
        return np.repeat(np.asarray(picture).astype(float)[..., None] / 257, 3, -1), None, picture.size
    if picture.mode in ("I", "F"):
        return None, None, picture.size
    if form == "PNG" and not profile and abs(picture.info.get("gamma", 0.45455) - 0.45455) > 0.005:
        # Pillow leaves the gamma to whoever shows the picture.
        return None, None, picture.size
    least = 35 if form in ("JPEG", "MPO", "JPEG2000", "WEBP", "AVIF", "HEIF") or picture.mode in ("CMYK", "LAB") else None
    if profile:
        least = 35
        source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        flat = picture.convert("RGBA" if clear else "RGB") if picture.mode in ("P", "PA", "1") else picture
        try:
            cover = flat.convert("RGBA").getchannel("A") if clear else None
            base = flat.convert("L" if flat.mode == "LA" else "RGB") if clear else flat
            picture = ImageCms.profileToProfile(base, source, SRGB, outputMode="RGB")
            if cover:
                picture.putalpha(cover)
        except ImageCms.PyCMSError:
            return None, None, picture.size
    if picture.mode == "LAB":
        picture = ImageCms.profileToProfile(picture, ImageCms.createProfile("LAB"), SRGB, outputMode="RGB")
    if clear:
        picture = picture.convert("RGBA")
        ground = Image.new("RGBA", picture.size, (255, 255, 255, 255))
        picture = Image.alpha_composite(ground, picture)
        least = least or 45
    return np.asarray(picture.convert("RGB")).astype(float), least, picture.size


def decibels(a, b):
    return 10 * np.log10(255.0**2 / max(1e-9, float(((a - b) ** 2).mean())))


def check(program, files, folder):
    recipe = {
        "format": "rallo-recipe", "version": 1, "name": "read", "steps": [],
        "deliveries": [{"kind": "pictures", "format": "png", "bits": "16", "transparent": False, "name": "{stem}", "to": "subfolder"}],
    }
    (folder / "recipe.json").write_text(json.dumps(recipe))
    ran = subprocess.run(
        [program, "--data", folder / "data", "run", folder / "recipe.json", "--from", files.folder, "--to", folder / "out",
         "--report", folder / "report.json"],
        capture_output=True, text=True, check=False,
    )
    said = (ran.stdout + ran.stderr).splitlines()
    made = {path.stem: path for path in (folder / "out").rglob("*.png")}
    counts, faults = collections.defaultdict(collections.Counter), []
    for name, (wanted, least) in files.wanted.items():
        path, stem = files.folder / name, pathlib.Path(name).stem
        group = name.split("-", 1)[-1].split(".")[0].split("-")[0] if wanted is not None or least else path.suffix[1:]
        reason = next((line.strip() for line in said if name in line), "")
        if "please report" in reason:
            faults.append((name, "the program failed: " + reason))
        size = None
        if wanted is None:
            try:
                wanted, own, size = by_pillow(path)
                least = least or own
            except Exception:  # Not a file of those that Pillow reads.
                counts[group]["not by Pillow"] += 1
                continue
        counts[group]["files"] += 1
        if stem not in made:
            faults.append((name, "not read: " + reason))
            continue
        result = imagecodecs.imread(made[stem]).astype(float) / 257
        if result.ndim == 2:
            result = np.repeat(result[..., None], 3, -1)
        shape = wanted.shape[:2] if wanted is not None else size[::-1]
        if result.shape[:2] != shape:
            faults.append((name, f"it is {result.shape[:2]}, not {shape}"))
            continue
        if wanted is not None:
            apart = np.abs(result - wanted).max()
            if apart > 1.01 and (least is None or decibels(result, wanted) < least):
                faults.append((name, f"other pixels: up to {apart:.1f}, {decibels(result, wanted):.1f} dB"))
                continue
        counts[group]["read"] += 1
    return counts, faults


def main():
    arguments = argparse.ArgumentParser(description=__doc__.split("\n\n")[0])
    arguments.add_argument("program")
    arguments.add_argument("--also", type=pathlib.Path)
    arguments.add_argument("--keep", type=pathlib.Path)
    asked = arguments.parse_args()
    with tempfile.TemporaryDirectory() as given:
        folder = asked.keep or pathlib.Path(given)
        (folder / "in").mkdir(parents=True, exist_ok=True)
        files = Files(folder / "in")
        for make in (jpegs, pngs, gifs, bmps, tiffs, webps, others, small):
            make(files)
        generated = files.count
        if asked.also:
            for path in sorted(p for p in asked.also.rglob("*") if p.suffix[1:].lower() in ENDINGS and p.is_file()):
                files.add(path.stem.replace("-", "_"), path.suffix[1:].lower(), path.read_bytes())
        counts, faults = check(asked.program, files, folder)
    total, read = (sum(c[what] for c in counts.values()) for what in ("files", "read"))
    for group in sorted(counts):
        print(f"{group:10} {counts[group]['read']:4} of {counts[group]['files']:4}")
    for name, fault in faults:
        print(f"  {name}: {fault}")
    print(f"{generated} files generated; {read} of {total} read as they should ({read / total:.1%})")
    failed = any("the program failed" in fault for _, fault in faults)
    sys.exit(1 if failed or read < LEAST * total else 0)


if __name__ == "__main__":
    main()
