"""Draws how the networks' held-out scenes fared over their training, from the logs: training/curves.svg.

    python curves.py"""
import pathlib
import re

here = pathlib.Path(__file__).resolve().parent
WIDE, HIGH, EDGE = 300, 180, 36
parts = []
for k, name in enumerate(("denoise", "upscale", "mosaic")):
    points = []
    for line in (here / f"{name}.log.txt").read_text().splitlines():
        found = re.search(r"step (\d+) .*-> ([\d.]+) / ([\d.]+) dB", line)
        if found:
            points.append((int(found[1]), float(found[2]), float(found[3])))
    left = k * (WIDE + EDGE) + EDGE
    most = max(p[0] for p in points)
    for c, colour in ((1, "#1f7a5f"), (2, "#b3541e")):
        low, high = min(p[c] for p in points), max(p[c] for p in points)
        at = lambda p: f"{left + p[0] / most * WIDE:.1f},{EDGE + (high - p[c]) / max(high - low, 0.01) * HIGH:.1f}"
        parts.append(f'<polyline fill="none" stroke="{colour}" points="{" ".join(map(at, points))}"/>')
        parts.append(f'<text x="{left}" y="{EDGE + HIGH + 14 * c}" fill="{colour}">{low:.2f} to {high:.2f} dB</text>')
    parts.append(f'<text x="{left}" y="{EDGE - 10}">{name}, {most} steps</text>')
size = (3 * (WIDE + EDGE) + EDGE, HIGH + 2 * EDGE + 10)
text = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {size[0]} {size[1]}" font-family="sans-serif" font-size="12">' + "".join(parts) + "</svg>\n"
(here / "curves.svg").write_text(text)
