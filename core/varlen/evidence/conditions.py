"""The conditions that are measured, those a probe is judged under, and how far one set of pictures covers another's."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import stats

from varlen.evidence.pixel_measures import detail_of, light_of
from varlen.kernels.resample import shrunk
from varlen.kernels.warp_affine import Pixels
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.pipeline.document import Pipeline
from varlen.shapes.polygons import rings_of

#: The longer side of the thumbnail that light and color are measured on, px.
THUMBNAIL = 128
#: Share of a thumbnail's pixel that must show picture for it to count.
MOSTLY = 250


@dataclass(frozen=True, slots=True)
class Condition:
    """What is measured: its unit in a plot, and what a low and a high value look like."""

    name: str
    unit: str
    low: str
    high: str


#: Of pixels, in the order they are shown in.
OF_PIXELS = (
    Condition("brightness", "of white", "darker", "brighter"),
    Condition("contrast", "of white", "flatter", "more contrast"),
    Condition("warmth", "ln red/blue", "cooler", "warmer"),
    Condition("tint", "ln green/other", "more magenta", "greener"),
    Condition("saturation", "of luma", "paler", "more colorful"),
    Condition("unevenness", "of mean luma", "more evenly lit", "more unevenly lit"),
    Condition("sharpness", "px of blur", "sharper", "softer"),
    Condition("noise", "levels", "cleaner", "noisier"),
    Condition("compression", "JPEG quality", "more compressed", "less compressed"),
)
#: Of labels.
OF_LABELS = (
    Condition("size", "of the picture's side", "smaller objects", "larger objects"),
    Condition("orientation", "degrees from level", "lying", "upright"),
    Condition("crowding", "objects a picture", "emptier", "more crowded"),
)
ALL = OF_PIXELS + OF_LABELS
BY_NAME = {each.name: each for each in ALL}
PIXEL_NAMES = tuple(each.name for each in OF_PIXELS)
LABEL_NAMES = tuple(each.name for each in OF_LABELS)


def thumbnail_of(pixels: Pixels) -> Pixels:
    """The picture with its longer side at most `THUMBNAIL` px, averaged."""
    height, width = pixels.shape[:2]
    factor = min(1.0, THUMBNAIL / max(height, width))
    return shrunk(np.ascontiguousarray(pixels), max(1, round(width * factor)), max(1, round(height * factor)))


def conditions_of(pixels: Pixels, seen: Pixels | None = None) -> dict[str, float]:
    """The conditions of one picture that its pixels show, all but compression; always finite.

    pixels: (H, W, 3) or (H, W, 1) uint8; seen: the same size, 255 where it shows picture and 0 where fill.
    """
    if pixels.shape[2] == 1:
        pixels = np.repeat(pixels, 3, axis=2)
    small = thumbnail_of(pixels)
    shown: NDArray[np.bool_] = np.ones(small.shape[:2], np.bool_)
    if seen is not None:
        shown = thumbnail_of(seen)[:, :, 0] >= MOSTLY
        if not shown.any():
            shown = np.ones(small.shape[:2], np.bool_)
    return {**light_of(small, shown), **detail_of(pixels, None if shown.all() else shown)}


_STEADY = {"scope": "every", "probability": 1.0}
_PLAIN = {f"{name}_factor": [1.0, 1.0] for name in ("contrast", "saturation")} | {"hue_degrees": [0.0, 0.0]}

#: Steps of each condition; several pipelines are judged together, as turned to the left and to the right.
_STEPS: dict[str, list[list[dict[str, Any]]]] = {
    "darker": [[{"step": "color_jitter", "brightness_factor": [0.55, 0.55], **_PLAIN}]],
    "brighter": [[{"step": "color_jitter", "brightness_factor": [1.5, 1.5], **_PLAIN}]],
    "warmer": [[{"step": "warmth", "shift": [0.12, 0.12]}]],
    "blurred": [[{"step": "blur", "sigma_px": [2.5, 2.5]}]],
    "noisy": [[{"step": "noise", "sigma_levels": [15, 15]}]],
    "turned": [[{"step": "rotate", "degrees": [angle, angle], "edges": "mirror"}] for angle in (-15, 15)],
    "smaller": [[{"step": "scale", "factor": [0.6, 0.6], "edges": "mirror"}]],
}
CONDITIONS = tuple(_STEPS)
#: Where a difference shows, in a sentence.
UNDER = {"darker": "in the dark", "brighter": "in bright light", "warmer": "in warm light", "blurred": "on blurred pictures",
         "noisy": "on noisy pictures", "turned": "on turned pictures", "smaller": "on small objects"}  # fmt: skip


def pipelines_of(condition: str) -> list[Pipeline]:
    """The pipelines of one condition; their steps are for every split, so that editions of a validation split can be made with them."""
    parts = _STEPS[condition]
    names = [condition] if len(parts) == 1 else [f"{condition} {place}" for place in ("left", "right")]
    return [Pipeline([{**_STEADY, **step} for step in steps], seed=1, name=name) for name, steps in zip(names, parts, strict=True)]


def objects_of(objects: Objects, size: Size) -> dict[str, float] | None:
    """Size, orientation and crowding of a picture's objects; None for a picture without any.

    size         geometric mean over objects of √(box area / picture area)
    orientation  mean over objects of the long axis' angle from level, folded to 0 (lying) … 90 (upright) degrees: by the second moments
                 of the outline's corners, the longer side of an oriented box, else atan2(height, width) of the box
    crowding     how many objects there are
    """
    boxes = objects.boxes
    sides = boxes[:, 2:] - boxes[:, :2]
    real = (sides > 0).all(axis=1) & ~objects.crowd
    if not real.any():
        return None
    share = np.sqrt(sides[real].prod(axis=1) / (size.width * size.height))
    polygons = objects.polygons
    angles = [_angle(objects, place, polygons[place], sides[place]) for place in np.flatnonzero(real).tolist()]
    return {
        "size": float(np.exp(np.log(share).mean())),
        "orientation": math.fsum(angles) / len(angles),
        "crowding": float(real.sum()),
    }


def _angle(objects: Objects, place: int, polygon: object, side: NDArray[np.float64]) -> float:
    """How steep one object's long axis is, 0 … 90 degrees."""
    turned = objects.oriented.of_object(place)
    if turned is not None:
        edges = np.diff(turned[:3], axis=0)
        x, y = edges[int(np.hypot(*edges.T).argmax())].tolist()
    elif polygon:
        points = np.concatenate(rings_of(polygon))  # type: ignore[arg-type]
        points = points - points.mean(axis=0)
        xx, yy, xy = float((points[:, 0] ** 2).sum()), float((points[:, 1] ** 2).sum()), float((points[:, 0] * points[:, 1]).sum())
        half = 0.5 * math.atan2(2.0 * xy, xx - yy)
        x, y = math.cos(half), math.sin(half)
    else:
        x, y = side.tolist()
    return math.degrees(math.atan2(abs(y), abs(x)))


Floats = NDArray[np.float64]

#: Values of the field within these quantiles of the variants are covered.
COVERED_WITHIN = (0.01, 0.99)
#: The part of the field that is to be covered.
FIELD_RANGE = (0.02, 0.98)
#: Chance at which a difference is taken for one: nine conditions are asked, so it is small.
UNLIKELY = 0.002
#: How well a condition alone must tell the two apart to matter: the share of pairs in the wrong order, 0.5 where it can't.
MATTERS = 0.66
#: Expected outside of 1-99 %, with what few pictures add.
OUTSIDE = 0.035


def span_of(values: Floats) -> list[float]:
    """2nd, 50th and 98th percentile."""
    return [float(each) for each in np.quantile(values, (0.02, 0.5, 0.98))]


def inner_range(values: Floats) -> tuple[float, float]:
    """The 1-99 % range."""
    low, high = np.quantile(values, COVERED_WITHIN)
    return float(low), float(high)


def wanted_range(field: Floats) -> tuple[float, float]:
    """What is to be covered of a field: its 2-98 % range, outwards to values that were seen."""
    low, high = np.quantile(field, FIELD_RANGE[0], method="lower"), np.quantile(field, FIELD_RANGE[1], method="higher")
    return float(low), float(high)


def covered(field: Floats, variants: Floats) -> float:
    """Share of the field within the variants' 1-99 % range, 0 … 1."""
    return float(within(field, variants).mean())


def within(field: Floats, variants: Floats) -> NDArray[np.bool_]:
    """Which values of the field lie in the variants' 1-99 % range. Differences in the last digits count as none."""
    low, high = inner_range(variants)
    hair = 1e-9 * max(1.0, abs(low), abs(high))
    return (field >= low - hair) & (field <= high + hair)


def told_apart(field: Floats, variants: Floats) -> tuple[float, float]:
    """How well one condition alone tells the two apart: the share of pairs in which the field's value is higher (ties half), and the
    chance of a share this far from 0.5 if they were alike (Mann-Whitney, normal approximation)."""
    if np.ptp(np.concatenate([field, variants])) == 0.0:
        return 0.5, 1.0
    found = stats.mannwhitneyu(field, variants, alternative="two-sided", method="asymptotic")
    return float(found.statistic) / (len(field) * len(variants)), float(found.pvalue)


def differs(field: Floats, variants: Floats) -> bool:
    """Whether the field lies elsewhere, or reaches further, than chance would have it."""
    share, chance = told_apart(field, variants)
    if chance < UNLIKELY and max(share, 1.0 - share) > MATTERS:
        return True
    outside = int((~within(field, variants)).sum())
    return outside > 1 and float(stats.binom.sf(outside - 1, len(field), OUTSIDE)) < UNLIKELY
