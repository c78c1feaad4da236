"""Pipelines to begin with: small, realistic ones for the usual tasks, each with a sentence why."""

from __future__ import annotations

from typing import Any, NamedTuple


class StartingPoint(NamedTuple):
    """A pipeline to begin with. task: what it is for, a word or two; why: one sentence; document: the pipeline."""

    task: str
    why: str
    document: dict[str, Any]

    def to_json(self) -> dict[str, Any]:
        """As the API sends it."""
        return self._asdict()


def _pipeline(name: str, *steps: dict[str, Any], **head: Any) -> dict[str, Any]:
    return {"varlen_pipeline": 1, "name": name, "seed": 1, **head, "steps": list(steps)}


_MIRROR = {"step": "flip", "probability": 0.5}
_LIGHT = {"step": "color_jitter", "brightness_factor": [0.8, 1.25], "hue_degrees": [-5, 5], "probability": 0.8}


def _fit(width: int, height: int, fit: str = "letterbox") -> dict[str, Any]:
    return {"step": "resize", "width_px": width, "height_px": height, "fit": fit, "scope": "every"}


STARTING_POINTS: tuple[StartingPoint, ...] = (
    StartingPoint("empty", "Nothing happens yet: every step is your own.", _pipeline("New pipeline")),
    StartingPoint(
        "classification",
        "The whole picture has one answer, so parts of it may be cut away and covered as long as the thing itself shows.",
        _pipeline(
            "Classification",
            {"step": "crop", "mode": "random", "area_fraction": [0.6, 1.0], "aspect": [0.8, 1.25], "probability": 0.8},
            _MIRROR,
            _LIGHT,
            {"step": "cutout", "size_fraction": [0.08, 0.2], "count": [1, 2], "fill": "mean", "probability": 0.25},
            _fit(224, 224, "cover"),
        ),
    ),
    StartingPoint(
        "detection",
        "Boxes must stay tight: turns are small, edges are mirrored instead of black, and sizes vary as distances do.",
        _pipeline(
            "Detection",
            _MIRROR,
            {"step": "rotate", "degrees": [-6, 6], "edges": "mirror", "probability": 0.5},
            {"step": "scale", "factor": [0.75, 1.33], "edges": "mirror"},
            _LIGHT,
            _fit(640, 640),
            labels={"box_fit": "corners", "keep_share": 0.3, "keep_side_px": 3},
        ),
    ),
    StartingPoint(
        "segmentation",
        "Outlines and masks move with every pixel, so larger turns and soft bends cost nothing in their labels.",
        _pipeline(
            "Segmentation",
            _MIRROR,
            {"step": "rotate", "degrees": [-15, 15], "edges": "mirror", "probability": 0.6},
            {"step": "elastic", "probability": 0.3},
            _LIGHT,
            _fit(640, 480),
        ),
    ),
    StartingPoint(
        "keypoints",
        "A mirror swaps left and right, so the skeleton's partners must be set; turns are kept below what a camera does.",
        _pipeline(
            "Keypoints",
            _MIRROR,
            {"step": "rotate", "degrees": [-12, 12], "edges": "mirror", "probability": 0.7},
            {"step": "scale", "factor": [0.8, 1.25], "edges": "mirror"},
            {"step": "motion_blur", "length_px": [3, 7], "probability": 0.2},
            _LIGHT,
            _fit(512, 512),
        ),
    ),
    StartingPoint(
        "pictures from above",
        "Nothing is up or down from above: every quarter turn and either mirror is as likely as the picture itself, and none of them resamples.",
        _pipeline(
            "From above",
            {"step": "quarter_turn", "probability": 0.75},
            {"step": "flip", "direction": "either", "probability": 0.5},
            {"step": "shift", "x_fraction": [-0.06, 0.06], "y_fraction": [-0.06, 0.06], "edges": "mirror", "probability": 0.5},
            {"step": "color_jitter", "brightness_factor": [0.85, 1.18], "hue_degrees": [-3, 3]},
            {"step": "noise", "sigma_levels": [0, 4], "probability": 0.3},
        ),
    ),
)
