"""How a step declares its parameters: each with a unit, limits and a one-line meaning."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import (
    BeforeValidator,
    Field,
)

if TYPE_CHECKING:
    pass


Scope = Literal["train", "every"]


#: A parameter matters only while another has one of these values, e.g. {"mode": ["window"]}.
When = dict[str, list[str]] | None


#: A range (low, high) that is drawn from; (x, x) is always x.
Span = tuple[float, float]


WholeSpan = tuple[int, int]


Levels = Annotated[tuple[float, float, float], BeforeValidator(lambda v: tuple(v) if isinstance(v, list) else v)]


Rgb = Annotated[tuple[int, int, int], BeforeValidator(lambda v: tuple(v) if isinstance(v, list) else v)]


def _extra(control: str, unit: str, low: float | None, high: float | None, **more: Any) -> dict[str, Any]:
    facts = {"control": control, "unit": unit, "low": low, "high": high, **more}
    return {stream_key: value for stream_key, value in facts.items() if value is not None}


def span(default: tuple[float, float] | None, meaning: str, *, unit: str, low: float, high: float,
         slider: tuple[float, float] | None = None, log: bool = False, when: When = None) -> Any:  # fmt: skip
    """A range (low, high) to draw from; None where another parameter says it.

    `low` and `high` are the hard limits; `slider` is the part worth offering on a slider.
    """
    return Field(default, description=meaning,
                 json_schema_extra=_extra("span", unit, low, high, slider=list(slider or (low, high)), log=log, when=when))  # fmt: skip


def whole_span(default: tuple[int, int], meaning: str, *, unit: str, low: int, high: int, slider: tuple[int, int] | None = None) -> Any:
    """A range (low, high) of whole numbers to draw from, both ends included."""
    return Field(default, description=meaning, json_schema_extra=_extra("span", unit, low, high, slider=list(slider or (low, high)), whole=True))


def is_span(extra: object) -> bool:
    """Whether a parameter is a range, from what was declared of it."""
    return isinstance(extra, dict) and extra.get("control") == "span"


def later(field: Any) -> Any:
    """A parameter that came after pipelines had been written: the full form holds it only where it is used, so that digests stay."""
    field.json_schema_extra["later"] = True
    return field


def number(default: float, meaning: str, *, unit: str, low: float, high: float, when: When = None) -> Any:
    """One fixed number."""
    return Field(default, description=meaning, json_schema_extra=_extra("number", unit, low, high, slider=[low, high], when=when))


def whole(default: int | None, meaning: str, *, unit: str, low: int, high: int, when: When = None) -> Any:
    """One whole number; None where the step determines it."""
    return Field(default, description=meaning, json_schema_extra=_extra("whole", unit, low, high, when=when))


def option(default: Any, meaning: str, **more: Any) -> Any:
    """One of a few words."""
    return Field(default, description=meaning, json_schema_extra=_extra("option", "", None, None, **more))


def several(default: tuple[int, ...], meaning: str, options: tuple[int, ...]) -> Any:
    """One or more of a few whole numbers."""
    return Field(default, description=meaning, min_length=1, json_schema_extra={"control": "several", "unit": "", "options": list(options)})


def switch(default: bool, meaning: str) -> Any:
    """Yes or no."""
    return Field(default, description=meaning, json_schema_extra=_extra("switch", "", None, None))


def levels(default: tuple[float, float, float] | None, meaning: str, *, low: float, high: float) -> Any:
    """One number for each of red, green and blue; None where it is taken from the dataset."""
    return Field(default, description=meaning, json_schema_extra=_extra("levels", "levels", low, high))


def within() -> Any:
    """Whether the step applies to the whole picture or separately to each object's box."""
    return option("image", "image: the whole picture; objects: inside each object's box only, drawn separately for each object")


Within = Literal["image", "objects"]


def probability(default: float) -> Any:
    """How often the step happens, for a step whose default is not 1."""
    return Field(default, description="how often the step happens", json_schema_extra=_extra("probability", "", 0, 1))


def scope(default: Literal["train", "every"]) -> Any:
    """Which images a step is for, for a step whose default is not the training split."""
    return Field(default, description="which images: the training split only, or every split", json_schema_extra=_extra("scope", "", None, None))


def color(default: tuple[int, int, int], meaning: str, when: When = None) -> Any:
    """A color as red, green, blue in 0-255 levels."""
    return Field(default, description=meaning, json_schema_extra=_extra("color", "levels", 0, 255, when=when))


#: The widest side that is asked for in px.
LARGEST = 30_000
