#!/usr/bin/python3
"""Makes the golden pictures in this folder with FFmpeg 5.1 and SciPy (double precision), programs that share no code
with the one under test. Run by hand; the pictures are committed. Needs ffmpeg, python3-scipy, python3-opencv (for
reading and writing PNG only)."""
import subprocess

import cv2
import numpy as np
from scipy import ndimage

W, H = 96, 54


def write(name, rgb):
    cv2.imwrite(name, np.round(np.clip(rgb, 0, 1) * 65535).astype(np.uint16)[..., ::-1])


def read(name):
    return cv2.imread(name, cv2.IMREAD_UNCHANGED)[..., ::-1].astype(np.float64) / 65535


def ffmpeg(filters, out):
    subprocess.run(["ffmpeg", "-v", "error", "-y", "-i", "source.png", "-vf", filters, "-pix_fmt", "rgb48be", "-update",
                    "1", "-frames:v", "1", out], check=True)


# A picture with edges, gradients and colour.
y, x = np.mgrid[0:H, 0:W].astype(np.float64)
source = np.stack([0.5 + 0.4 * np.sin(x / 7) * np.cos(y / 5), x / W * 0.9 + 0.05, 0.2 + 0.6 * ((x // 12 + y // 9) % 2)], -1)
write("source.png", source)
source = read("source.png")
other = np.stack([y / H, 0.5 + 0.45 * np.cos((x + y) / 9), 1 - x / W], -1)
write("other.png", other)
other = read("other.png")

soft = ndimage.gaussian_filter(source, (2.5, 2.5, 0), mode="nearest", truncate=3.2)
write("gaussian-2.5.png", soft)
write("sharpen-0.8-2.5.png", source + 0.8 * (source - soft))
ffmpeg("format=gbrp16le,lut3d=warm.cube:interp=tetrahedral", "lut-tetrahedral.png")
ffmpeg("format=gbrp16le,lut3d=warm.cube:interp=trilinear", "lut-trilinear.png")

# Multiply, screen and the difference of an opaque layer at 70 % over an opaque picture, as W3C has them.
for name, mixed in (("multiply", source * other), ("screen", source + other - source * other),
                    ("difference", abs(source - other))):
    write(f"blend-{name}-70.png", 0.7 * mixed + 0.3 * source)
