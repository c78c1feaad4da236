"""Pictures to look at: contact sheets, a step at several values, and a variant beside its original. They show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, get_args

import numpy as np

from varlen.arrays.clips import render_picture
from varlen.arrays.thumbnails import TILE_PX, Sheet, _original, _tile
from varlen.datasets.array_labels import Labels
from varlen.datasets.given_pictures import given_picture
from varlen.errors import ArrayError
from varlen.pipeline.document import Pipeline
from varlen.steps.base import Step
from varlen.steps.parameters import is_span
from varlen.steps.problems import nearest

MOST_VARIANTS = 400


def sheet(pipeline: Pipeline, image: Any, labels: Labels | None = None, variants: int = 10, *, key: str = "",
          partners: Any = (), tile_px: int = TILE_PX) -> Sheet:  # fmt: skip
    """A contact sheet of one picture: itself, then its variants 1 … `variants`, with their labels drawn.

    image, labels, key, partners: as for `Pipeline.render`; tile_px: width of a tile. Raises `ArrayError` for what can't be right.

    >>> import numpy as np, varlen as v
    >>> v.sheet(v.Pipeline([v.Flip()]), np.zeros((48, 64, 3), np.uint8), variants=3)
    Sheet(4 tiles: original, 1, 2, 3)
    """
    if not 1 <= variants <= MOST_VARIANTS:
        raise ArrayError(f"variants: {variants} is outside 1 … {MOST_VARIANTS}")
    image = given_picture(image)
    outs = [render_picture(pipeline, image, labels, key, variant, "train", partners) for variant in range(1, variants + 1)]
    return Sheet([_original(outs[0], tile_px), *(_tile(out, tile_px) for out in outs)], ["original", *map(str, range(1, variants + 1))])


def strip(step: type[Step], parameter: str, image: Any, labels: Labels | None = None, values: Sequence[Any] | None = None,
          *, tile_px: int = TILE_PX, **settings: Any) -> Sheet:  # fmt: skip
    """One step at five values of a parameter, with the labels drawn; of a choice, each.

    step: a step's class, such as `Rotate`; image, labels: as for `Pipeline.render`; values: instead of five along the parameter's usual range;
    settings: of its other parameters.
    Raises `ArrayError` for a parameter that the step does not have.

    >>> import numpy as np, varlen as v
    >>> v.strip(v.Rotate, "degrees", np.zeros((48, 64, 3), np.uint8))
    Sheet(5 tiles: -45, -22.5, 0, 22.5, 45)
    """
    if not (isinstance(step, type) and issubclass(step, Step)):
        raise ArrayError(f"strip: the first argument is a step's class, such as Rotate, not {step!r:.60}")
    if parameter not in step.parameters():
        raise ArrayError(f"strip: {step.name()} has no parameter {parameter!r}{nearest(parameter, step.parameters())}")
    chosen = list(_values(step, parameter) if values is None else values)
    usual = {"probability": 1.0} | settings
    ranged = is_span(step.model_fields[parameter].json_schema_extra)
    given = [(value, value) if ranged and isinstance(value, (int, float)) else value for value in chosen]
    image = given_picture(image)
    outs = [render_picture(Pipeline([step(**usual | {parameter: value})]), image, labels, "", 1, "train") for value in given]
    return Sheet([_tile(out, tile_px) for out in outs], [f"{value:g}" if isinstance(value, float) else str(value) for value in chosen])


def _values(step: type[Step], parameter: str) -> list[Any]:
    """Five values along a parameter's usual range, or all of its words."""
    field = step.model_fields[parameter]
    extra: dict[str, Any] = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    if extra.get("control") in ("option", "scope"):
        return list(get_args(field.annotation))
    if extra.get("control") == "switch":
        return [False, True]
    if extra.get("control") == "probability":
        return [0.0, 0.25, 0.5, 0.75, 1.0]
    low, high = extra.get("slider") or (extra.get("low"), extra.get("high"))
    if low is None or high is None:
        raise ArrayError(f"strip: say which values of {parameter} to show, as values=[…]")
    found = np.geomspace(low, high, 5) if extra.get("log") and low > 0 else np.linspace(low, high, 5)
    whole = extra.get("whole") or extra.get("control") == "whole"
    return [round(value) if whole else float(f"{value:.4g}") for value in found.tolist()]
