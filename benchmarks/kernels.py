"""Each kernel against a plain copy and against the same work in SciPy or NumPy."""

from __future__ import annotations

import io
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from PIL import Image
from scipy import ndimage
from varlen.kernels.blur import gaussian, motion_blur
from varlen.kernels.camera import add_noise, jpeg_artifacts, relight
from varlen.kernels.equalize import equalize
from varlen.kernels.pixel_digest import pixel_digest
from varlen.kernels.recolor import recolor
from varlen.kernels.resample import shrunk
from varlen.kernels.warp_affine import warp
from varlen.kernels.warp_mapped import warp_mapped
from varlen.kernels.warp_masks import warp_labels
from varlen.model.effects import Curve, DisplacementField, Recolor
from varlen.model.geometry import Matrix, Size, about, quad_from_square, rotation, scaling

from benchmarks.timing import Table, against, best

SHADOW = {"x_fraction": 0.4, "y_fraction": 0.5, "length_fraction": 0.4, "breadth_fraction": 0.15, "degrees": 30.0}


def measure() -> list[Table]:
    return [_size(width, height) for width, height in ((640, 480), (1280, 960))]


def _size(width: int, height: int) -> Table:
    table = Table(f"Kernels, {width}×{height} RGB, one thread", "work", "ms", "reference", "times faster", "target")
    rng = np.random.default_rng(0)
    picture = np.clip(ndimage.gaussian_filter(rng.standard_normal((height, width, 3)), (2, 2, 0)) * 600 + 128, 0, 255).astype(np.uint8)
    out = np.empty_like(picture)
    frame = (0, 0, width, height)

    def copy() -> None:
        np.copyto(out, picture)

    def encode() -> None:
        Image.fromarray(picture).save(io.BytesIO(), "JPEG", quality=90)

    table.add("plain copy", best(copy), "", "", "")
    table.add("JPEG encode, quality 90", best(encode), "", "", "")
    cases = (
        ("most inside", 7, 1.1, "mirror", "≥ 45" if width == 640 else "≥ 35"),
        ("38 % outside, solid", 30, 0.8, "solid", "≥ 15"),
        ("38 % outside, mirrored", 30, 0.8, "mirror", "≥ 12"),
    )
    first = None
    for name, degrees, factor, edges, target in cases:
        inverse = about(rotation(degrees).then(scaling(factor, factor)), (width / 2, height / 2)).inverse()
        first = first or inverse
        matrix = np.array([[inverse.e, inverse.d], [inverse.b, inverse.a]])
        mode = {"mirror": "reflect", "solid": "constant"}[edges]

        def theirs(matrix: np.ndarray = matrix, mode: str = mode) -> None:
            for channel in range(3):
                ndimage.affine_transform(picture[..., channel], matrix, 10.0, order=1, mode=mode)

        table.add(
            f"bilinear warp, {name}",
            *_beside(lambda inverse=inverse, edges=edges: warp(picture, inverse, out, frame, edges, (0, 0, 0)), theirs, "scipy.ndimage"),
            target,
        )  # type: ignore[misc]
    assert first is not None
    encodes = against(lambda: warp(picture, first, out, frame, "mirror", (0, 0, 0)), encode)[1]
    table.add("the first of these, against a JPEG encode", "", f"{1 / encodes:.2f} × the time", "", "≤ 1.0 ×")
    table.add("two threads, each with a picture of its own, against one", "", f"{_threads(picture, first):.2f} × the pictures", "", "≥ 1.6 ×")
    matrix = Recolor((1.0, 0.1, 0.0, 3.0, 0.0, 1.0, 0.1, 2.0, 0.1, 0.0, 1.0, 3.0))
    table_of_levels = Curve(bytes(range(256)))
    for name, colors, target in (
        ("color matrix", (matrix,), "≤ 2.2 × a copy" if width > 640 else ""),
        ("color matrix and table", (matrix, table_of_levels), "≤ 5 × a copy" if width > 640 else ""),
    ):
        ours, copies = against(lambda colors=colors: recolor(out, frame, colors), copy)  # type: ignore[misc]
        table.add(name, ours, f"{1 / copies:.1f} × a copy", "", target)
    blurred = _beside(lambda: gaussian(picture, 1.5), lambda: ndimage.gaussian_filter(picture, (1.5, 1.5, 0)), "scipy.ndimage")
    table.add("Gaussian blur σ 1.5", *blurred, "≥ 15")
    small = (round(width * 0.4), round(height * 0.4))
    small_ones = _beside(lambda: shrunk(picture, *small), lambda: _numpy_shrink(picture, *small), "same taps in NumPy")
    table.add("antialiased shrink to 0.4", *small_ones, "≥ 10")
    mask = (picture[..., 0] > 128).astype(np.uint8)
    turn = about(rotation(7), (width / 2, height / 2))
    inverse, labels = turn.inverse(), np.empty_like(mask)
    affine = np.array([[inverse.e, inverse.d], [inverse.b, inverse.a]])
    nearest = _beside(
        lambda: warp_labels(mask, (), turn, labels, frame, "solid", 255),
        lambda: ndimage.affine_transform(mask, affine, 10.0, order=0),
        "scipy.ndimage",
    )
    table.add("nearest label map", *nearest, "≥ 25")
    quad = scaling(1 / width, 1 / height).then(quad_from_square([(0, 0), (width * 0.97, height * 0.03), (width, height), (width * 0.04, height)]))
    bend = ((Matrix(), DisplacementField(Size(width, height), height / 10, height / 50, 1)),)
    for name, change, target in (
        ("perspective warp", lambda: warp_mapped(picture, (), quad, out, frame, "mirror", (0, 0, 0)), ""),
        ("elastic warp", lambda: warp_mapped(picture, bend, Matrix(), out, frame, "mirror", (0, 0, 0)), "≤ 2.5 × an encode"),
        ("noise", lambda: add_noise(picture, 8.0, 1, True), "≤ 1 × an encode"),
        ("compression artefacts, quality 60", lambda: jpeg_artifacts(picture, 60), "≤ 3 × an encode"),
        ("local contrast", lambda: equalize(picture, 8, 2.0), "≤ 1.5 × an encode"),
        ("motion blur, 9 px", lambda: motion_blur(picture, 9.0, 30.0), ""),
        ("uneven light with two shadows", lambda: relight(picture, 0.3, 40.0, [SHADOW, SHADOW]), "≤ 1.5 × an encode"),
    ):
        ours, encodes = against(change, encode)
        table.add(name, ours, f"{1 / encodes:.2f} × a JPEG encode", "", target)
    table.add("fingerprint of the pixels", best(lambda: pixel_digest(picture)), "", "", "")
    return table


def _beside(ours: Callable[[], object], theirs: Callable[[], object], reference: str) -> tuple[float, str, float]:
    """Our milliseconds, what they are held against, and how many times faster that is."""
    taken, times = against(ours, theirs)
    return taken, reference, times


def _threads(picture: np.ndarray, inverse: Matrix) -> float:
    """How many more pictures two threads warp in the same time than one."""

    def some(count: int) -> None:
        out = np.empty_like(picture)
        for _ in range(count):
            warp(picture, inverse, out, (0, 0, picture.shape[1], picture.shape[0]), "mirror", (0, 0, 0))

    with ThreadPoolExecutor(2) as pool:
        one = best(lambda: some(20), 1.5, 5)
        two = best(lambda: list(pool.map(some, (20, 20))), 1.5, 5)
    return 2 * one / two


def _numpy_shrink(picture: np.ndarray, width: int, height: int) -> np.ndarray:
    """The same triangle weights, tap by tap over whole arrays."""

    def taps(length: int, count: int) -> tuple[np.ndarray, np.ndarray]:
        reach = length / count
        centre = (np.arange(count) + 0.5) * reach - 0.5
        places = np.ceil(centre - reach).astype(int)[:, None] + np.arange(int(2 * reach) + 1)
        weights = np.maximum(1 - np.abs(places - centre[:, None]) / reach, 0)
        return places.clip(0, length - 1), (weights / weights.sum(1, keepdims=True)).astype(np.float32)

    rows, row_weights = taps(picture.shape[0], height)
    total = np.zeros((height, picture.shape[1], 3), np.float32)
    for tap in range(rows.shape[1]):
        total += picture[rows[:, tap]] * row_weights[:, tap, None, None]
    columns, column_weights = taps(picture.shape[1], width)
    out = np.zeros((height, width, 3), np.float32)
    for tap in range(columns.shape[1]):
        out += total[:, columns[:, tap]] * column_weights[None, :, tap, None]
    return (out + 0.5).astype(np.uint8)
