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

#: What people look each step up by; the first step that has a word is the one that is named for it. The screens and the terminal search these.
_SAID_OF_STEPS = {
    "flip": "mirror, horizontal flip, hflip, vertical flip, vflip, left right, upside down, reflect, reflection",
    "quarter_turn": "90, 180, 270, rot90, rotate 90, right angle, orientation, upside down, transpose",
    "rotate": "rotation, turn, angle, tilt, affine",
    "shear": "skew, slant, tilt, affine",
    "shift": "translate, translation, move, offset, affine",
    "scale": "zoom, magnify, enlarge, shrink, affine, rescale size",
    "elastic": "distort, distortion, deform, deformation, warp, bend, grid distortion, wave",
    "perspective": "homography, projective, viewpoint, keystone, tilt, distort, distortion, warp",
    "lens": "barrel, pincushion, fisheye, fish eye, radial distortion, optical distortion, distort, distortion, undistort, warp",
    "crop": "random crop, center crop, centre crop, center, resized crop, trim, cut, window",
    "resize": "letterbox, longest side, shortest side, stretch, fit, size, downscale",
    "pad": "padding, border, margin, canvas, fill, letterbox, frame",
    "brightness": "light, lighten, darken, darker, brighter, exposure",
    "contrast": "flat, harder, softer, tone",
    "saturation": "vivid, vibrance, pale, color strength, colorfulness, hsv",
    "hue": "tint, color shift, color circle, hsv",
    "color_jitter": "color, colour, jitter, photometric, brightness contrast, brightness, contrast, saturation, hue, hsv",
    "gamma": "exposure, midtones, tone curve, power law",
    "warmth": "white balance, temperature, color temperature, color cast, tint",
    "channel_gain": "rgb, rgb shift, channel shift, channels, sensor color",
    "grayscale": "gray, grey, greyscale, black and white, monochrome, desaturate",
    "equalize": "histogram, histogram equalization, clahe, local contrast, adaptive contrast",
    "relight": "shadow, shade, lighting, illumination, vignette, uneven light, glare",
    "blur": "gaussian blur, defocus, out of focus, smooth, soft focus",
    "motion_blur": "shake, camera shake, movement, smear",
    "sharpen": "sharpness, unsharp mask, crisp",
    "noise": "gaussian noise, grain, sensor noise, iso, speckle",
    "compress": "jpeg, compression, artifacts, artefacts, jpeg quality",
    "coarsen": "pixelate, low resolution, subsample, downscale",
    "cutout": "erase, erasing, random erasing, dropout, occlude, occlusion, hide, mask out",
    "mosaic": "collage, tile, four pictures, stitch, combine",
    "mixup": "mix, blend, alpha, overlay, combine",
    "paste_objects": "copy paste, paste, insert objects, composite, combine",
    "junction": "one of, choice, choose, either, branch, some of, select, sometimes",
    "normalize": "standardize, standardise, mean, std, standard deviation, z score, zero mean",
}
STEP_WORDS: dict[str, tuple[str, ...]] = {step: tuple(words.split(", ")) for step, words in _SAID_OF_STEPS.items()}

#: Names that are looked for in vain, and what to write instead.
_INSTEAD = {
    **dict.fromkeys(("compose", "composition", "sequential", "sequence", "chain", "transforms", "augmenter", "augmentations"),
                    "a list of steps is varlen.Pipeline([…])"),
    **dict.fromkeys(("rescale", "to_float", "to_tensor", "scale_levels"),
                    'pixels stay 0-255 in a pipeline; range="0-1" of varlen.stream gives shares of white as float32'),
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
    known = list(known)
    meant = _step_for(word)
    if meant in known:
        return f"; that is done by {meant!r}"
    return nearest(snake(word), known)


def missing_name(name: str, public: Iterable[str]) -> str:
    """What to say of a name that the package does not have: the step or the name that was probably meant."""
    public, plain = list(public), snake(name)
    if plain in _INSTEAD:
        return f"varlen has no {name!r}; {_INSTEAD[plain]}"
    meant = _step_for(name)
    cls = "".join(part.capitalize() for part in (meant or plain.removeprefix("random_")).split("_"))
    if cls in public:
        return f"varlen has no {name!r}; " + (f"that is done by varlen.{cls}" if meant else f"did you mean varlen.{cls}?")
    close = difflib.get_close_matches(name, public, 1)
    return f"varlen has no {name!r}; " + (f"did you mean varlen.{close[0]}?" if close else "dir(varlen) lists what there is")


def _step_for(word: str) -> str:
    """The first step that is looked up by a word; empty where none is."""
    plain = snake(word).replace("_", " ").replace("-", " ").removeprefix("random ")
    joined = plain.replace(" ", "")
    return next((step for step, words in STEP_WORDS.items() if any(joined == each.replace(" ", "") for each in words)), "")


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
