"""The conditions that a probe's networks are judged under besides the untouched pictures: ordinary pipelines with fixed amounts."""

from __future__ import annotations

from typing import Any

from varlen.pipeline.document import Pipeline

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


def pipelines_of(condition: str) -> list[Pipeline]:
    """The pipelines of one condition; their steps are for every split, so that editions of a validation split can be made with them."""
    parts = _STEPS[condition]
    names = [condition] if len(parts) == 1 else [f"{condition} {place}" for place in ("left", "right")]
    return [Pipeline([{**_STEADY, **step} for step in steps], seed=1, name=name) for name, steps in zip(names, parts, strict=True)]
