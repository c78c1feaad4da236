"""The golden pipelines: every step of the catalogue, alone and in company."""

from __future__ import annotations

from typing import Any

Document = dict[str, Any]


def _pipeline(*steps: Document, **head: Any) -> Document:
    return {"varlen_pipeline": 1, "name": "golden", "seed": 11, **head, "steps": [{"probability": 1, **step} for step in steps]}


_MOVED = {"step": "rotate", "degrees": [-30, 30]}

PIPELINES: dict[str, Document] = {
    "nothing": _pipeline(),
    "flip": _pipeline({"step": "flip", "direction": "either", "probability": 0.5}),
    "flip-both": _pipeline({"step": "flip", "direction": "both"}),
    "quarter_turn": _pipeline({"step": "quarter_turn"}),
    "rotate": _pipeline({"step": "rotate", "degrees": [-40, 40], "edges": "mirror"}),
    "rotate-grow": _pipeline({"step": "rotate", "degrees": [-40, 40], "frame": "grow", "edge_color": [9, 99, 200]}),
    "rotate-zoom": _pipeline({"step": "rotate", "degrees": [-20, 20], "frame": "zoom"}),
    "shear": _pipeline({"step": "shear", "x_degrees": [-20, 20], "edges": "extend"}),
    "shift": _pipeline({"step": "shift", "x_fraction": [-0.3, 0.3], "y_fraction": [-0.3, 0.3], "edges": "wrap"}),
    "scale": _pipeline({"step": "scale", "factor": [0.4, 2], "stretch_factor": [0.8, 1.25]}),
    "perspective": _pipeline({"step": "perspective", "corner_fraction": [0.05, 0.15]}),
    "elastic": _pipeline({"step": "elastic", "strength_fraction": [0.02, 0.04]}),
    "lens": _pipeline({"step": "lens", "k1": [-0.2, 0.2], "edges": "mirror"}),
    "light": _pipeline({"step": "brightness"}, {"step": "contrast"}, {"step": "saturation"}, {"step": "hue"}),
    "crop-window": _pipeline({"step": "crop", "mode": "window", "left_px": 3, "top_px": 4, "width_px": 20, "height_px": 15, "scope": "train"}),
    "crop-centre": _pipeline({"step": "crop", "mode": "centre", "fraction": 0.6, "scope": "train"}),
    "crop-random": _pipeline({"step": "crop", "mode": "random"}),
    "crop-around": _pipeline({"step": "crop", "mode": "around_object"}),
    "resize-letterbox": _pipeline({"step": "resize", "width_px": 48, "height_px": 48, "fit": "letterbox"}),
    "resize-cover": _pipeline({"step": "resize", "width_px": 33, "height_px": 20, "fit": "cover"}),
    "resize-longest": _pipeline({"step": "resize", "width_px": 30, "height_px": 30, "fit": "longest"}),
    "pad": _pipeline({"step": "pad", "multiple_px": 32}),
    "color_jitter": _pipeline({"step": "color_jitter"}),
    "gamma": _pipeline({"step": "gamma"}),
    "warmth": _pipeline({"step": "warmth"}),
    "channel_gain": _pipeline({"step": "channel_gain"}),
    "grayscale": _pipeline({"step": "grayscale"}),
    "grayscale-one": _pipeline({"step": "grayscale", "channels": 1}),
    "equalize": _pipeline({"step": "equalize"}),
    "relight": _pipeline({"step": "relight"}),
    "blur": _pipeline({"step": "blur", "sigma_px": [0.5, 2]}),
    "motion_blur": _pipeline({"step": "motion_blur"}),
    "sharpen": _pipeline({"step": "sharpen"}),
    "noise": _pipeline({"step": "noise"}),
    "compress": _pipeline({"step": "compress"}),
    "coarsen": _pipeline({"step": "coarsen"}),
    "cutout": _pipeline({"step": "cutout", "count": [3, 5], "size_fraction": [0.2, 0.4]}),
    "cutout-noise": _pipeline({"step": "cutout", "fill": "noise", "keep_off": "objects"}),
    "mosaic": _pipeline(_MOVED, {"step": "mosaic"}),
    "mosaic-3x3": _pipeline({"step": "flip"}, {"step": "mosaic", "grid": "3x3", "width_px": 90, "height_px": 70}),
    "mixup": _pipeline(_MOVED, {"step": "mixup"}),
    "paste_objects": _pipeline(_MOVED, {"step": "paste_objects", "count": [2, 3]}),
    "junction": _pipeline(
        {
            "step": "junction",
            "branches": [
                {"weight": 1, "steps": [_MOVED]},
                {"weight": 3, "steps": [{"step": "flip"}, {"step": "mosaic"}]},
                {"weight": 0.5, "steps": []},
            ],
        }
    ),
    "within-objects": _pipeline(
        {"step": "rotate", "within": "objects", "degrees": [-30, 30]},
        {"step": "cutout", "within": "objects"},
        {"step": "color_jitter", "within": "objects"},
        {"step": "flip", "within": "objects", "probability": 0.5},
    ),
    "mosaic-within": _pipeline({"step": "mosaic"}, {"step": "flip", "within": "objects", "probability": 0.5}, {"step": "noise", "within": "objects"}),
    "ellipse": _pipeline(_MOVED, labels={"box_fit": "ellipse", "keep_share": 0.5, "keep_side_px": 6}),
    "grouped": _pipeline(_MOVED, {"step": "mosaic"}, draw_per="group"),
    "long": _pipeline(
        {"step": "flip", "probability": 0.5},
        _MOVED,
        {"step": "elastic"},
        {"step": "scale", "factor": [0.7, 1.4]},
        {"step": "color_jitter"},
        {"step": "gamma"},
        {"step": "shift", "edges": "extend"},
        {"step": "cutout", "probability": 0.5},
        {"step": "blur"},
        {"step": "noise"},
        {"step": "resize", "width_px": 56, "height_px": 40, "fit": "letterbox", "scope": "every"},
    ),
    "normalize": _pipeline({"step": "resize", "width_px": 32, "height_px": 24}, {"step": "normalize"}),
}

#: Those that are exported in every format.
EXPORTED = _pipeline(
    {"step": "flip", "probability": 0.5},
    _MOVED,
    {"step": "mosaic", "probability": 0.4},
    {"step": "cutout", "probability": 0.5},
    {"step": "resize", "width_px": 48, "height_px": 40, "fit": "letterbox", "scope": "every"},
)
