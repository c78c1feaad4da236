"""The dot test at the door for arrays: spot and keypoint stay together through render, again at every number type, clips and nesting."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
import varlen as v

from tests.conftest import light_near
from tests.core.render.test_dot import CHAIN, DOTS, EXACT, HEIGHT, RESAMPLED, WIDTH, WITH_SEAMS, check

STEPS = [pytest.param([step], id=name) for name, step in (EXACT | RESAMPLED).items()] + [pytest.param(CHAIN, id="chain")]
DTYPES = ["uint8", "uint16", "int16", "float32", "float64", "bool"]
RULES = {"keep_share": 0.9, "keep_side_px": 0}


def spot(x: int, y: int) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """A smooth spot of light in the middle of pixel (x, y), (H, W) uint8."""
    rows, columns = np.mgrid[0:HEIGHT, 0:WIDTH]
    return np.rint(255 * np.exp(-((columns - x) ** 2 + (rows - y) ** 2) / (2 * 1.8**2))).astype(np.uint8)


def picture(x: int, y: int) -> np.ndarray[Any, np.dtype[np.uint8]]:
    return np.repeat(spot(x, y)[:, :, None], 3, axis=2)


def labels_at(x: int, y: int) -> v.Labels:
    return v.Labels(boxes=[[x - 8, y - 8, x + 9, y + 9]], keypoints=[[[x + 0.5, y + 0.5, 2]]], classes=["spot"], outside="clip")


def partners_of(x: int, y: int) -> list[tuple[Any, v.Labels]]:
    return [(picture(*other), labels_at(*other)) for other in DOTS if other != (x, y)][:3]


@pytest.mark.parametrize("steps", STEPS)
def test_render(steps: list[dict]) -> None:
    within = 1e-9 if all(step in EXACT.values() for step in steps) else 0.75 if steps[0]["step"] in WITH_SEAMS else 0.5
    pipeline, seen = v.Pipeline(steps, seed=1, labels=RULES), 0
    for x, y in DOTS:
        for variant in (1, 2):
            out = pipeline.render(picture(x, y), labels_at(x, y), key=f"{x}", variant=variant, partners=partners_of(x, y))
            seen += check(out.image, out.keypoints, within)
    assert seen >= 5


@pytest.mark.parametrize("dtype", DTYPES)
@pytest.mark.parametrize("steps", [each for each in STEPS if each.values[0][0]["step"] not in WITH_SEAMS])
def test_again_at_every_number_type(steps: list[dict], dtype: str) -> None:
    """The array's own type comes back, with the spot under the keypoint; of truth values the middle of those that are set."""
    pipeline, seen = v.Pipeline(steps, seed=3, labels=RULES), 0
    for x, y in DOTS:
        out = pipeline.render(picture(x, y), labels_at(x, y), key=f"{x}")
        level = spot(x, y)
        array = level > 60 if dtype == "bool" else (level.astype(dtype) * (100 if dtype == "uint16" else 1))
        for moved in (out.again(array), out.again(np.dstack([array, array, array, array]))[:, :, 3], out.again(array, nearest=True)):
            assert moved.dtype == array.dtype
            assert moved.shape == out.image.shape[:2]
            light = moved.astype(np.float64)
            for kx, ky, visible in out.keypoints.reshape(-1, 3):
                if visible and 8 <= kx <= out.size.width - 8 and 8 <= ky <= out.size.height - 8:
                    found = light_near(np.repeat((light / light.max() * 255).astype(np.uint8)[:, :, None], 3, axis=2), kx, ky)
                    assert np.hypot(found[0] - kx, found[1] - ky) <= 0.75, dtype
                    seen += 1
    assert seen >= 3


@pytest.mark.parametrize("steps", [each for each in STEPS if each.values[0][0]["step"] not in WITH_SEAMS])
def test_clips_and_nested_structures(steps: list[dict]) -> None:
    """All frames get one draw; a nested structure gets the very draw of a plain render."""
    pipeline, seen = v.Pipeline(steps, seed=4, labels=RULES), 0
    first, other = DOTS[0], (DOTS[0][0] + 9, DOTS[0][1] - 6)
    clip = pipeline.render([picture(*first), picture(*other)], [labels_at(*first), labels_at(*other)], key="clip")
    for frame in clip:
        seen += check(frame.image, frame.keypoints, 0.5)
    drawn = [[record["drawn"] for record in trace["steps"]] for trace in clip.trace]
    assert drawn[0] == drawn[1]
    plain = pipeline.render(picture(*first), labels_at(*first), key="n")
    data = {"image": picture(*first), "rest": ("kept", [{"keypoints": [[[first[0] + 0.5, first[1] + 0.5, 2]]], "boxes": labels_at(*first).boxes}])}
    nested = pipeline.render_nested(data, key="n")
    assert (nested["image"] == plain.image).all()
    assert nested["rest"][0] == "kept"
    assert nested["rest"][1][0]["keypoints"] == plain.keypoints.tolist()
    assert isinstance(nested["rest"][1][0]["boxes"], np.ndarray)
    assert seen >= 1
