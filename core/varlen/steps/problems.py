"""What is wrong with a step or a pipeline, in our words: with the place, and with what to write instead."""

from __future__ import annotations

import difflib
import json
from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import ValidationError

#: What a parameter is called elsewhere, and its name here; the first that a step has counts.
PARAMETER_WORDS: dict[str, tuple[str, ...]] = {
    "p": ("probability",), "prob": ("probability",), "chance": ("probability",), "likelihood": ("probability",),
    "angle": ("degrees",), "angles": ("degrees",), "rotation": ("degrees",), "limit": ("degrees", "factor"), "theta": ("degrees",),
    "height": ("height_px",), "width": ("width_px",), "size": ("width_px", "factor"),
    "border": ("edges",), "border_mode": ("edges",), "fill_mode": ("edges",), "padding_mode": ("edges",),
    "fill": ("edge_color", "fill"), "fill_value": ("edge_color",), "value": ("edge_color", "color"),
    "sigma": ("sigma_px", "sigma_levels"), "kernel": ("sigma_px", "length_px"),
    "direction": ("axis",), "name": ("id",),
}  # fmt: skip

#: What people look for, and the step that does it.
STEP_WORDS = {
    "brightness": "color_jitter", "contrast": "color_jitter", "saturation": "color_jitter", "hue": "color_jitter", "jitter": "color_jitter",
    "color": "color_jitter", "mirror": "flip", "horizontal_flip": "flip", "hflip": "flip", "vertical_flip": "flip", "vflip": "flip",
    "rot90": "quarter_turn", "rotate90": "quarter_turn", "rotation": "rotate", "translate": "shift", "translation": "shift", "zoom": "scale",
    "affine": "scale", "skew": "shear", "letterbox": "resize", "erase": "cutout", "erasing": "cutout", "dropout": "cutout", "mix": "mixup",
    "jpeg": "compress", "compression": "compress", "gray": "grayscale", "grey": "grayscale", "greyscale": "grayscale", "sharpness": "sharpen",
    "defocus": "blur", "gaussian_blur": "blur", "gaussian_noise": "noise", "distort": "elastic", "histogram": "equalize", "white_balance": "warmth",
    "temperature": "warmth", "shadow": "relight", "one_of": "junction", "choice": "junction", "standardize": "normalize", "pixelate": "coarsen",
    "downscale": "coarsen", "copy_paste": "paste_objects", "clahe": "equalize",
}  # fmt: skip


def snake(word: str) -> str:
    """A class's name as a pipeline file writes it: ColorJitter → color_jitter."""
    return "".join("_" + letter.lower() if letter.isupper() and place else letter.lower() for place, letter in enumerate(word))


def nearest(word: str, known: Iterable[str]) -> str:
    """The known word that was probably meant, else all of them, ready to follow a message."""
    known = list(known)
    meant = next((name for name in PARAMETER_WORDS.get(word.lower(), ()) if name in known), None)
    if meant is None:
        close = difflib.get_close_matches(word, known, 1)
        meant = close[0] if close else next((name for name in known if name.startswith(f"{word}_") and word), None)
    return f"; did you mean {meant!r}?" if meant else f"; known are {', '.join(known)}"


def nearest_step(word: str, known: Iterable[str]) -> str:
    """The step that was probably meant by a word, ready to follow a message."""
    known, plain = list(known), snake(word)
    meant = STEP_WORDS.get(plain.removeprefix("random_"), "")
    if meant in known:
        return f"; that is done by {meant!r}"
    return nearest(plain, known)


def missing_name(name: str, public: Iterable[str]) -> str:
    """What to say of a name that the package does not have: the step or the name that was probably meant."""
    public = list(public)
    plain = snake(name)
    step = STEP_WORDS.get(plain.removeprefix("random_"), plain.removeprefix("random_"))
    cls = "".join(part.capitalize() for part in step.split("_"))
    if cls in public:
        return f"varlen has no {name!r}; " + (f"that is done by varlen.{cls}" if plain in STEP_WORDS else f"did you mean varlen.{cls}?")
    close = difflib.get_close_matches(name, public, 1)
    return f"varlen has no {name!r}; " + (f"did you mean varlen.{close[0]}?" if close else "dir(varlen) lists what there is")


def spellings(value: float, facts: Mapping[str, Any], default: tuple[float, float] | None) -> str:
    """What to write in place of a single number for a range: up to it, and exactly it. facts: what was declared of the range."""
    low, high = float(facts["low"]), float(facts["high"])
    exactly = f"({value:g}, {value:g}) for exactly {value:g}"
    size = abs(value)
    if low < 0 < high:
        return f"write ({-size:g}, {size:g}) for up to {size:g} either way, {exactly}"
    if facts.get("log") and low < 1 < high and value > 0 and value != 1:
        less, more = sorted((round(value, 4), round(1 / value, 4)))
        return f"write ({less:g}, {more:g}) for up to {value:g} × either way, {exactly}"
    if low == 0 and value > 0:
        return f"write (0, {value:g}) for up to {value:g}, {exactly}"
    usual = "" if default is None else f" such as ({default[0]:g}, {default[1]:g})"
    return f"write a range (low, high){usual}, or {exactly}"


def explain(error: ValidationError, place: str, known: list[str]) -> list[str]:
    """Pydantic's findings in our words, each with its path; known: the parameters there are."""
    problems = []
    for item in error.errors(include_url=False):
        path = place
        for part in item["loc"]:
            path += f"[{part}]" if isinstance(part, int) else f".{part}" if path else str(part)
        match item["type"]:
            case "extra_forbidden":
                inside = ["weight", "steps"] if "branches" in item["loc"][:-1] else known
                what = f"unknown key{nearest(str(item['loc'][-1]), inside)}"
            case "missing":
                what = "is missing"
            case "value_error":
                what = str(item["ctx"]["error"])
            case "literal_error":
                what = f"{json.dumps(item['input'], default=str)} is not one of {item['ctx']['expected']}"
            case "too_short" | "too_long" | "tuple_type":
                what = f"{json.dumps(item['input'], default=str)} is not a range [low, high]"
            case _:
                message = item["msg"][0].lower() + item["msg"][1:]
                what = f"{message}, not {json.dumps(item['input'], default=str)[:80]}"
        problems.append(f"{path}: {what}")
    return problems
