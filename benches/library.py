"""The same work by a general-purpose image library (libvips), two worker processes. Prints seconds."""
import multiprocessing, pathlib, sys, time

import pyvips

pyvips.cache_set_max(0)


def curve_table():
    points = [(0, 0), (0.25, 0.21), (0.75, 0.8), (1, 1)]
    table = []
    for i in range(256):
        v = i / 255
        for (x0, y0), (x1, y1) in zip(points, points[1:]):
            if v <= x1:
                table.append(y0 + (y1 - y0) * (v - x0) / (x1 - x0))
                break
    return pyvips.Image.new_from_array([[round(v * 255) for v in table]]).cast("uchar")


def toned(image):
    gain = 2 ** 0.35
    return (image.colourspace("scrgb") * gain).colourspace("srgb").maplut(curve_table())


def whole(job):
    source, target = job
    image = toned(pyvips.Image.new_from_file(source, access="sequential").autorot())
    width, height = image.width, image.height
    image = image.rotate(1.2)
    keep = 1 / (0.99978 + max(width / height, height / width) * 0.02094)
    w, h = int(width * keep), int(height * keep)
    image = image.crop((image.width - w) // 2, (image.height - h) // 2, w, h)
    image = image.resize(1600 / max(w, h)).sharpen(sigma=0.8)
    text = pyvips.Image.text("Thistlewick", dpi=190).copy(interpretation="b-w")
    mark = text.new_from_image([255, 255, 255]).copy(interpretation="srgb").bandjoin((text * 0.6).cast("uchar"))
    image = image.composite(mark, "over", x=image.width - text.width - 24, y=image.height - text.height - 24)
    image.flatten().jpegsave(target, Q=82)


def small(job):
    source, target = job
    pyvips.Image.thumbnail(source, 1600, height=1600).sharpen(sigma=0.8).jpegsave(target, Q=82)


def cropped(job):
    source, target = job
    toned(pyvips.Image.thumbnail(source, 1600, height=900, crop="centre")).jpegsave(target, Q=82)


if __name__ == "__main__":
    kind, folder, out = sys.argv[1:4]
    pathlib.Path(out).mkdir(parents=True, exist_ok=True)
    jobs = [(str(f), f"{out}/{f.name}") for f in sorted(pathlib.Path(folder).glob("*.jpg"))]
    pyvips.concurrency_get()
    start = time.time()
    with multiprocessing.Pool(2) as pool:
        pool.map({"whole": whole, "small": small, "cropped": cropped}[kind], jobs, chunksize=1)
    print(time.time() - start)
