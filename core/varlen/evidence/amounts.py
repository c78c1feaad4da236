"""Which step moves which condition, and how far: the amounts that a match solves for."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from varlen.evidence.measuring import Measured

Floats = NDArray[np.float64]
#: Least and most share of white whose double logarithm is taken.
DIMMEST, LIGHTEST = 1e-3, 1.0 - 1e-3
#: Least contrast, saturation, size whose logarithm is taken.
LEAST = 1e-3


@dataclass(frozen=True, slots=True)
class Knob:
    """One parameter of one step, and the condition it moves.

    In the coordinates `shift` (of an amount) and `seen` (of pictures) the parameter adds about `slope` times its shift, whatever the
    picture: that makes ranges solvable. stage: after which others it is looked at; low, high: the amounts that may be suggested;
    below, above: why the field can't be reached where it lies beyond them.
    """

    condition: str
    step: str
    parameter: str
    stage: int
    place: Literal["first", "light", "detail"]
    neutral: float
    low: float
    high: float
    shift: Callable[[Floats], Floats]
    seen: Callable[[Measured], Floats]
    slope: float
    below: str = ""
    above: str = ""
    whole: bool = False
    fixed: tuple[tuple[str, Any], ...] = ()


def _plain(values: Floats) -> Floats:
    return values


def _log(values: Floats) -> Floats:
    return np.log(np.maximum(values, LEAST))


def _square(values: Floats) -> Floats:
    return np.square(values)


def _of(name: str, change: Callable[[Floats], Floats]) -> Callable[[Measured], Floats]:
    return lambda measured: change(measured.of(name))


def _middle_tone(measured: Measured) -> Floats:
    """ln(−ln brightness): a gamma adds the logarithm of its exponent."""
    return np.log(-np.log(np.clip(measured.of("brightness"), DIMMEST, LIGHTEST)))


def _relative_contrast(measured: Measured) -> Floats:
    """ln(contrast / brightness): brighter alone changes nothing of it."""
    return _log(measured.of("contrast")) - _log(measured.of("brightness"))


_JITTER: tuple[tuple[str, Any], ...] = tuple((f"{name}_factor", [1.0, 1.0]) for name in ("brightness", "contrast", "saturation"))
_JITTER += (("hue_degrees", [0.0, 0.0]),)
_GAIN = tuple((f"{name}_factor", [1.0, 1.0]) for name in ("red", "green", "blue"))
_OTHERS_BRIGHTER = "white and black are clipped before it is reached"

GAMMA = Knob("brightness", "gamma", "exponent", 0, "light", 1.0, 0.2, 5.0, np.log, _middle_tone, 1.0)
BRIGHTNESS = Knob("brightness", "color_jitter", "brightness_factor", 0, "light", 1.0, 0.1, 6.0, np.log, _of("brightness", _log), 1.0,
                  above=_OTHERS_BRIGHTER, fixed=_JITTER)  # fmt: skip
CONTRAST = Knob("contrast", "color_jitter", "contrast_factor", 0, "light", 1.0, 0.1, 6.0, np.log, _relative_contrast, 1.0,
                above=_OTHERS_BRIGHTER, fixed=_JITTER)  # fmt: skip
#: A gamma beside a factor for brightness: ln(contrast / brightness) grows by about the logarithm of its exponent.
TONE = Knob("contrast", "gamma", "exponent", 0, "light", 1.0, 0.2, 5.0, np.log, _relative_contrast, 1.0, above=_OTHERS_BRIGHTER)
# fmt: off
KNOBS = (
    Knob("warmth", "warmth", "shift", 1, "light", 0.0, -0.8, 0.8, _plain, _of("warmth", _plain), 4.6),
    Knob("tint", "channel_gain", "green_factor", 1, "light", 1.0, 0.2, 3.0, np.log, _of("tint", _plain), 2.3, fixed=_GAIN),
    Knob("size", "scale", "factor", 1, "first", 1.0, 0.1, 5.0, np.log, _of("size", _log), 1.0),
    Knob("saturation", "color_jitter", "saturation_factor", 2, "light", 1.0, 0.02, 5.0, np.log, _of("saturation", _log), 1.0, fixed=_JITTER,
         above="gray pictures have no color to strengthen"),
    Knob("unevenness", "relight", "strength", 2, "light", 0.0, 0.0, 0.9, _plain, _of("unevenness", _plain), 1.2, fixed=(("shadows", [0, 0]),),
         below="no step takes light's unevenness away"),
    Knob("sharpness", "blur", "sigma_px", 4, "detail", 0.0, 0.0, 12.0, _square, _of("sharpness", _square), 1.0,
         below="a blur that is in the picture can't be taken out"),
    Knob("compression", "compress", "quality", 3, "detail", 100.0, 1.0, 97.0, _plain, _of("compression", _plain), 1.0, whole=True,
         above="what compression took away can't be brought back"),
    Knob("noise", "noise", "sigma_levels", 4, "detail", 0.0, 0.0, 60.0, _square, _of("noise", _square), 1.0,
         below="noise that is in the picture can't be taken out"),
)
# fmt: on
_PLACES: dict[str, str] = {knob.step: knob.place for knob in (GAMMA, BRIGHTNESS, *KNOBS)}
STAGES = 5
#: Conditions that no step is solved for.
WITHOUT_KNOB = {
    "orientation": "turning the pictures turns what is upright in them, too: add a rotation if objects may really lie so",
    "crowding": "only mosaic and pasted objects make pictures more crowded: add them by hand",
}
#: The order in which suggested steps act: as light falls, then as a camera sees it.
ORDER = ("scale", "relight", "gamma", "color_jitter", "warmth", "channel_gain", "blur", "noise", "compress")


@dataclass(frozen=True, slots=True)
class Setting:
    """A knob with the range it was set to."""

    knob: Knob
    low: float
    high: float

    def moved(self, low: float, high: float) -> Setting:
        """The same knob with another range, within its limits and the right way round."""
        knob = self.knob
        if low > high:
            low = high = (low + high) / 2
        return replace(self, low=min(max(low, knob.low), knob.high), high=min(max(high, knob.low), knob.high))


def steps_of(settings: list[Setting]) -> list[dict[str, Any]]:
    """The settings as steps of a pipeline document, in the order they act in; ranges rounded outwards."""
    made: dict[str, dict[str, Any]] = {}
    for setting in settings:
        knob = setting.knob
        step = made.setdefault(knob.step, {"id": f"match-{knob.step.replace('_', '-')}", "step": knob.step, "probability": 1.0, **dict(knob.fixed)})
        step[knob.parameter] = _rounded(setting)
    return sorted(made.values(), key=lambda step: ORDER.index(step["step"]))


def _rounded(setting: Setting) -> list[float]:
    """The range at three digits (whole where it must be), outwards but within the limits."""
    low, high, knob = setting.low, setting.high, setting.knob
    if knob.whole:
        return [math.floor(low + 0.5), math.floor(high + 0.5)]
    unit = 10.0 ** (math.floor(math.log10(max(abs(low), abs(high), 0.01))) - 2)
    ends = math.floor(low / unit + 1e-9) * unit, math.ceil(high / unit - 1e-9) * unit
    return [round(min(max(end, knob.low), knob.high), 6) for end in ends]


def place_of(step: str) -> str:
    """Where a suggested step goes in a pipeline."""
    return _PLACES.get(step, "light")
