"""A fast fingerprint of pixels.

SHA-256 alone over every picture would cost more than coding it as JPEG. So the bytes, as
64-bit words (little-endian, the last block filled with zeros), are first mixed into eight
lanes, word n into lane n mod 8:

    lane = (lane xor word) · 0x9E3779B97F4A7C15 mod 2⁶⁴;  lane = lane xor (lane >> 32)

Each step can be undone, so a change in any one word always changes its lane. SHA-256 over the
lanes and the shape is the digest. It tells pictures apart that differ by accident; that
nobody tampered with a file is what the file's own SHA-256 is for.
"""

from __future__ import annotations

import hashlib

import numpy as np

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels


def pixel_digest(pixels: Pixels) -> str:
    """`sha256:…` for (H, W, C) uint8 pixels, independent of any codec."""
    flat = np.ascontiguousarray(pixels).reshape(-1)
    whole = flat.size // 64 * 64
    rest = np.zeros(64, np.uint8)
    rest[: flat.size - whole] = flat[whole:]
    lanes = np.arange(1, 9, dtype=np.uint64)
    _mix(flat[:whole].view(np.uint64), lanes)
    _mix(rest.view(np.uint64), lanes)
    shape = "x".join(str(length) for length in pixels.shape)
    return "sha256:" + hashlib.sha256(f"{shape}:".encode() + lanes.astype("<u8").tobytes()).hexdigest()


@kernel
def _mix(words, lanes):
    a, b, c, d, e, f, g, h = lanes[0], lanes[1], lanes[2], lanes[3], lanes[4], lanes[5], lanes[6], lanes[7]
    factor = np.uint64(0x9E3779B97F4A7C15)
    half = np.uint64(32)
    for n in range(0, words.size, 8):
        k = np.uint64(n)
        a = (a ^ words[k]) * factor
        b = (b ^ words[k + np.uint64(1)]) * factor
        c = (c ^ words[k + np.uint64(2)]) * factor
        d = (d ^ words[k + np.uint64(3)]) * factor
        e = (e ^ words[k + np.uint64(4)]) * factor
        f = (f ^ words[k + np.uint64(5)]) * factor
        g = (g ^ words[k + np.uint64(6)]) * factor
        h = (h ^ words[k + np.uint64(7)]) * factor
        a, b, c, d = a ^ (a >> half), b ^ (b >> half), c ^ (c >> half), d ^ (d >> half)
        e, f, g, h = e ^ (e >> half), f ^ (f >> half), g ^ (g >> half), h ^ (h >> half)
    lanes[0], lanes[1], lanes[2], lanes[3], lanes[4], lanes[5], lanes[6], lanes[7] = a, b, c, d, e, f, g, h
