#!/usr/bin/env python3
"""Writes the small pictures beside this file: one scene by formula, in every kind of file that is met.

    pip install pillow tifffile imagecodecs numpy OpenEXR && python make.py

The name says what the test `reading.rs` may expect: `rgb-` the scene exactly, `grey-` its red channel, `near-` the scene
through a lossy format or another colour space, `white-` the scene with its right half laid on white, `raw-` the scene but for the
outermost pixels.
"""

import io
import pathlib
import struct
import subprocess
import zlib

import imagecodecs
import numpy as np
import OpenEXR
import tifffile
from PIL import Image, ImageCms, PngImagePlugin

HERE = pathlib.Path(__file__).parent
WIDTH, HEIGHT = 16, 12
Y, X = np.mgrid[0:HEIGHT, 0:WIDTH]
SCENE = np.stack([10 + 14 * X, 20 + 17 * Y, 200 - 5 * X - 6 * Y], -1).astype(np.uint8)
GREY = np.ascontiguousarray(SCENE[..., 0])
COVER = np.where(X < WIDTH // 2, 255, 0).astype(np.uint8)
COLOUR, CLEAR = Image.fromarray(SCENE), Image.fromarray(np.dstack([SCENE, COVER]))
# How stored rows must be turned to be upright, undone.
LAID = {2: Image.FLIP_LEFT_RIGHT, 3: Image.ROTATE_180, 4: Image.FLIP_TOP_BOTTOM, 5: Image.TRANSPOSE,
        6: Image.ROTATE_90, 7: Image.TRANSVERSE, 8: Image.ROTATE_270}


def keep(name, data):
    (HERE / name).write_bytes(data)


def saved(picture, form, **how):
    out = io.BytesIO()
    picture.save(out, form, **how)
    return out.getvalue()


def exif_of(way):
    exif = Image.Exif()
    exif[0x0112] = way
    return exif


def tiff(picture, **how):
    out = io.BytesIO()
    tifffile.imwrite(out, picture, metadata=None, software=False, **how)
    return out.getvalue()


def chunk(kind, body):
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


def jpegs():
    usual = saved(COLOUR, "JPEG", quality=97, subsampling=0)
    table = usual.index(b"\xff\xdb")
    keep("near-jpeg.jpg", usual)
    keep("near-jpeg-junk.jpg", usual[:table] + b"\x12\x13\x14" + usual[table:])
    keep("near-jpeg-ff00.jpg", usual[:table] + b"\xff\x00\xff\x00" + usual[table:])
    keep("near-jpeg-short-app14.jpg", usual[:table] + b"\xff\xee\x00\x07Adobe" + usual[table:])
    keep("near-jpeg-bad-profile.jpg", usual[:2] + b"\xff\xe2\x00\x14ICC_PROFILE\0\x05\x02abcd" + usual[2:])
    keep("near-jpeg-ink.jpg", saved(COLOUR.convert("CMYK"), "JPEG", quality=97, subsampling=0))
    keep("near-jpeg-two.mpo", saved(COLOUR, "MPO", save_all=True, append_images=[COLOUR.rotate(180)], quality=97, subsampling=0))
    keep("rgb-jpeg-lossless.jpg", imagecodecs.jpeg8_encode(SCENE, lossless=True))
    # By Debian's libjpeg-turbo-progs.
    pixmap = b"P6 16 12 255\n" + SCENE.tobytes()
    for name, how in (("arithmetic", ["-arithmetic"]), ("scans", ["-progressive"])):
        ran = subprocess.run(["cjpeg", "-quality", "97", "-sample", "1x1", *how], input=pixmap, capture_output=True, check=True)
        keep(f"near-jpeg-{name}.jpg", ran.stdout)
    for way in (3, 6):
        keep(f"near-jpeg-way{way}.jpg", saved(COLOUR.transpose(LAID[way]), "JPEG", quality=97, subsampling=0, exif=exif_of(way)))


def pngs():
    keep("rgb-png-16.png", imagecodecs.png_encode(SCENE.astype(np.uint16) * 257))
    keep("white-png.png", saved(CLEAR, "PNG"))
    keep("rgb-apng.png", saved(COLOUR, "PNG", save_all=True, append_images=[COLOUR.rotate(180)], duration=50))
    usual = saved(COLOUR, "PNG")
    keep("rgb-png-wrong-sum.png", usual[:33] + chunk(b"tIME", bytes(7))[:-4] + b"abcd" + usual[33:])
    for way in range(2, 9):
        keep(f"rgb-png-way{way}.png", saved(COLOUR.transpose(LAID[way]), "PNG", exif=exif_of(way)))
    # Display P3 by code points (ITU-T H.273): the scene's colours in it.
    p3 = np.array([[0.8225, 0.1774, 0.0], [0.0332, 0.9669, 0.0], [0.0171, 0.0724, 0.9108]])
    light = np.where(SCENE / 255 <= 0.04045, SCENE / 255 / 12.92, ((SCENE / 255 + 0.055) / 1.055) ** 2.4) @ p3.T
    coded = np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)
    wide = saved(Image.fromarray(np.round(coded * 255).astype(np.uint8)), "PNG")
    keep("near-png-cicp.png", wide[:33] + chunk(b"cICP", bytes([12, 13, 0, 1])) + wide[33:])
    turned = COLOUR.transpose(LAID[6])
    raw = exif_of(6).tobytes()
    info = PngImagePlugin.PngInfo()
    info.add_text("Raw profile type exif", f"\nexif\n{len(raw):8}\n{raw.hex()}\n", zip=True)
    keep("rgb-png-text-way6.png", saved(turned, "PNG", pnginfo=info))
    info = PngImagePlugin.PngInfo()
    info.add_itxt("XML:com.adobe.xmp", '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
                  '<rdf:Description xmlns:tiff="http://ns.adobe.com/tiff/1.0/" tiff:Orientation="6"/></rdf:RDF></x:xmpmeta>')
    keep("rgb-png-xmp-way6.png", saved(turned, "PNG", pnginfo=info))


def tiffs():
    wide = SCENE.astype(np.uint16) * 257
    planes = np.moveaxis(SCENE, -1, 0)
    keep("rgb-tiff-planes-tiles.tif", tiff(planes, photometric="rgb", planarconfig="separate", tile=(16, 16)))
    keep("rgb-tiff-planes-16.tif", tiff(np.moveaxis(wide, -1, 0), photometric="rgb", planarconfig="separate", tile=(16, 16)))
    keep("rgb-tiff-big.tif", tiff(SCENE, photometric="rgb", bigtiff=True))
    keep("rgb-tiff-big-endian.tif", tiff(wide, photometric="rgb", byteorder=">"))
    for packing in ("lzma", "zstd", "lzw", "packbits", "deflate"):
        keep(f"rgb-tiff-{packing}.tif", tiff(SCENE, photometric="rgb", compression=packing))
    keep("rgb-tiff-32.tif", tiff(SCENE.astype(np.uint32) * 0x01010101, photometric="rgb"))
    keep("rgb-tiff-signed.tif", tiff((SCENE.astype(np.int16) - 128).astype(np.int8), photometric="rgb"))
    keep("near-tiff-half.tif", tiff((SCENE / 255).astype(np.float16), photometric="rgb"))
    keep("rgb-tiff-double.tif", tiff(SCENE / 255, photometric="rgb"))
    table = np.zeros((3, 256), np.uint16)
    table[:, : WIDTH * HEIGHT] = SCENE.reshape(-1, 3).T.astype(np.uint16) * 257
    keep("rgb-tiff-palette.tif", tiff(np.arange(WIDTH * HEIGHT, dtype=np.uint8).reshape(HEIGHT, WIDTH), photometric="palette", colormap=table))
    keep("grey-tiff-white-is-0.tif", tiff(255 - GREY, photometric="miniswhite"))
    keep("white-tiff.tif", tiff(np.dstack([SCENE, COVER]), photometric="rgb", extrasamples=["unassalpha"]))
    over = (SCENE * (COVER[..., None] // 255)).astype(np.uint8)
    keep("white-tiff-multiplied.tif", tiff(np.dstack([over, COVER]), photometric="rgb", extrasamples=["assocalpha"]))
    keep("rgb-tiff-unknown-extra.tif", tiff(np.dstack([SCENE, COVER]), photometric="rgb", extrasamples=["unspecified"]))
    inks = np.dstack([255 - SCENE, np.zeros_like(GREY)])
    keep("rgb-tiff-ink.tif", tiff(inks, photometric="separated"))
    lab = ImageCms.profileToProfile(COLOUR, ImageCms.createProfile("sRGB"), ImageCms.createProfile("LAB"), outputMode="LAB")
    keep("near-tiff-lab.tif", saved(lab, "TIFF"))
    keep("near-tiff-jpeg.tif", saved(COLOUR, "TIFF", compression="jpeg", quality=97))
    keep("rgb-tiff-pages.tif", saved(COLOUR, "TIFF", save_all=True, append_images=[COLOUR.rotate(180)]))


def raws():
    """The scene through filters of sRGB's own primaries and a camera that sees half as much red and less blue."""
    linear = np.where(SCENE / 255 <= 0.04045, SCENE / 255 / 12.92, ((SCENE / 255 + 0.055) / 1.055) ** 2.4)
    neutral = np.array([0.5, 1.0, 0.7])
    to_srgb = np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]])
    camera = np.diag(neutral) @ np.linalg.inv(to_srgb)
    pattern = np.array([[0, 1], [1, 2]])
    counts = np.take_along_axis(linear * neutral, pattern[Y % 2, X % 2][..., None], 2)[..., 0]
    counts = np.round(counts * (16383 - 512) + 512).astype(np.uint16)
    whole = lambda values: [n for v in values for n in (int(round(v * 10000)), 10000)]
    tags = [
        (33421, 3, 2, (2, 2), True), (33422, 1, 4, bytes(pattern.ravel().tolist()), True), (50706, 1, 4, b"\1\4\0\0", True),
        (50708, 2, 0, "Marlow 24 R", True), (50714, 3, 1, 512, True), (50717, 3, 1, 16383, True),
        (50721, 10, 9, whole(camera.ravel()), True), (50728, 5, 3, whole(neutral), True), (50778, 3, 1, 21, True),
    ]
    keep("raw-bayer.dng", tiff(counts, photometric=32803, extratags=tags))
    turned = np.rot90(counts)
    # The pattern turns with the picture.
    tags[1] = (33422, 1, 4, bytes(np.rot90(pattern).ravel().tolist()), True)
    keep("raw-way6.dng", tiff(np.ascontiguousarray(turned), photometric=32803, extratags=[*tags, (274, 3, 1, 6, True)]))
    seen = np.round(linear * neutral * 65535).astype(np.uint16)
    linear_tags = [t for t in tags[2:] if t[0] not in (50714, 50717)]
    keep("near-linear.dng", tiff(seen, photometric=34892, extratags=[*linear_tags, (50717, 3, 3, (65535,) * 3, True)]))


def others():
    keep("rgb-webp.webp", saved(COLOUR, "WEBP", lossless=True))
    for way in (3, 8):
        keep(f"rgb-webp-way{way}.webp", saved(COLOUR.transpose(LAID[way]), "WEBP", lossless=True, exif=exif_of(way)))
    keep("rgb-webp-exif-head.webp", saved(COLOUR.transpose(LAID[6]), "WEBP", lossless=True, exif=b"Exif\0\0" + exif_of(6).tobytes()))
    keep("rgb-jp2.jp2", saved(COLOUR, "JPEG2000"))
    keep("rgb-j2k-16.j2k", imagecodecs.jpeg2k_encode(SCENE.astype(np.uint16) * 257, level=0, reversible=True, codecformat="j2k"))
    keep("rgb-pnm.ppm", saved(COLOUR, "PPM"))
    keep("grey-pnm.pgm", saved(Image.fromarray(GREY), "PPM"))
    keep("rgb-pam.pam", b"P7\nWIDTH 16\nHEIGHT 12\nDEPTH 3\nMAXVAL 255\nTUPLTYPE RGB\nENDHDR\n" + SCENE.tobytes())
    keep("rgb-tga.tga", saved(COLOUR, "TGA", rle=True))
    keep("white-tga.tga", saved(CLEAR, "TGA"))
    keep("rgb-bmp.bmp", saved(COLOUR, "BMP"))
    rows = SCENE[::-1, :, ::-1].tobytes()
    os2 = struct.pack("<IIIHHIIIIII", 64, WIDTH, HEIGHT, 1, 24, 0, len(rows), 0, 0, 0, 0) + bytes(24)
    keep("rgb-bmp-os2.bmp", b"BM" + struct.pack("<IHHI", 78 + len(rows), 0, 0, 78) + os2 + rows)
    inside = saved(COLOUR, "PNG")
    head = struct.pack("<IiiHHIIiiII", 40, WIDTH, -HEIGHT, 1, 0, 5, len(inside), 0, 0, 0, 0)
    keep("rgb-bmp-holds-png.bmp", b"BM" + struct.pack("<IHHI", 54 + len(inside), 0, 0, 54) + head + inside)
    indexed = Image.fromarray(np.arange(WIDTH * HEIGHT, dtype=np.uint8).reshape(HEIGHT, WIDTH), "P")
    indexed.putpalette(SCENE.tobytes())
    keep("rgb-gif.gif", saved(indexed, "GIF"))
    linear = np.where(SCENE / 255 <= 0.04045, SCENE / 255 / 12.92, ((SCENE / 255 + 0.055) / 1.055) ** 2.4).astype(np.float32)
    keep("near-hdr.hdr", imagecodecs.rgbe_encode(linear))
    channels = {"RGB": OpenEXR.Channel(linear)}
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels).write(str(HERE / "rgb-exr.exr"))
    # Coverage multiplies the colours of this format.
    cover = (COVER / 255)[..., None].astype(np.float32)
    channels = {"RGBA": OpenEXR.Channel(np.concatenate([linear * cover, cover], -1))}
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels).write(str(HERE / "white-exr.exr"))
    keep("rgb-jxl.jxl", imagecodecs.jpegxl_encode(SCENE, lossless=True))


for make in (jpegs, pngs, tiffs, raws, others):
    make()
