"""What every step is: typed parameters, a draw and an effect.

A step is one class. Its parameters are declared with `span`, `whole_span`, `number`, `whole`,
`option`, `several`, `switch`, `levels` or `color`, each with a unit, limits and a one-line
meaning; from that declaration come the validation messages, the JSON Schema, the controls
on the screen and the reference pages.
"""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable, Sequence
from numbers import Real
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple, get_args

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    SerializerFunctionWrapHandler,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_serializer,
)
from pydantic.fields import FieldInfo
from pydantic_core import PydanticUndefined

from varlen.draws import MOST_KEY
from varlen.errors import PipelineError
from varlen.model.effects import Effect, PixelOperation
from varlen.model.geometry import Rect, Size
from varlen.steps.parameters import (  # noqa: F401  step files of one's own import these from here
    LARGEST,
    Levels,
    Rgb,
    Scope,
    Span,
    When,
    WholeSpan,
    Within,
    _extra,
    color,
    is_span,
    later,
    levels,
    number,
    option,
    probability,
    scope,
    several,
    span,
    switch,
    whole,
    whole_span,
    within,
)
from varlen.steps.problems import explain, spellings

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from varlen.draws import PartnerRing, Stream


Drawn = dict[str, Any]


class PlacedObject(NamedTuple):
    """An object as it comes to a step: where it is from, its name there, and its box within the frame."""

    image: str
    id: str
    box: Rect


def _none() -> Sequence[PlacedObject]:
    return ()


class DrawContext(NamedTuple):
    """What a draw may depend on besides its stream.

    `size`: the picture as it comes to the step; `image`: its key; `peers`: the images of
    its split, for steps that need partners (gathered when asked for); `objects`: the objects as they come to the step
    (worked out when asked for).
    """

    size: Size
    image: str
    peers: Callable[[], PartnerRing]
    objects: Callable[[], Sequence[PlacedObject]] = _none


class _Parameters:
    """A step's signature for `help` and editors: its parameters by name, with plain types and defaults."""

    def __get__(self, step: Step | None, cls: type[Step]) -> inspect.Signature:
        named = inspect.Parameter.KEYWORD_ONLY
        found = [(name, cls.model_fields[name]) for name in cls.parameters()]
        return inspect.Signature([inspect.Parameter(name, named, default=field.default, annotation=field.annotation) for name, field in found])


_PARAMETERS = _Parameters()


class Step(BaseModel):
    """One step of a pipeline.

    A subclass sets `purpose` (what it is looked up by: move, light, texture, hide,
    combine or fit), may override the defaults of `probability` and `scope`, and writes
    `draw` and `effect`. `shown` lists settings worth a picture each on its reference page;
    default: its first range at its low, middle and high end.

    >>> import varlen as v
    >>> step = v.Rotate(degrees=(-12, 12), probability=0.7)
    >>> step.step, step.degrees, step.parameters()[:2]
    ('rotate', (-12.0, 12.0), ['degrees', 'frame'])
    """

    # Built when first used: listing the catalogue then costs a third of the time.
    model_config = ConfigDict(extra="forbid", frozen=True, strict=False, validate_default=True, defer_build=True,
                              json_schema_extra=lambda schema, cls: schema.update(description=cls.meaning()))  # fmt: skip

    purpose: ClassVar[str]
    kind: ClassVar[str]
    shown: ClassVar[tuple[dict[str, Any], ...]] = ()
    source_digest: ClassVar[str] = ""  # SHA-256 of the file or function of a step that is not built in

    step: str
    id: str = Field(default="", pattern=r"^[A-Za-z0-9][A-Za-z0-9_-]{0,39}$|^$", description="name within the pipeline; the step's draws depend on it")
    probability: float = probability(1.0)
    scope: Scope = scope("train")
    enabled: bool = Field(
        default=True, description="off keeps the step in the pipeline without using it", json_schema_extra=_extra("switch", "", None, None)
    )

    if not TYPE_CHECKING:  # type checkers see the parameters themselves

        def __init__(self, /, *places: Any, **given: Any) -> None:
            """Parameters by name. Raises `PipelineError` with one line for each that can't be used, as for a file."""
            name = type(self).name()
            parameters = type(self).parameters()
            if places:
                raise PipelineError([f"{name}: parameters are given by name, such as {type(self).__name__}({parameters[0]}=…)"])
            try:
                super().__init__(**given)
            except ValidationError as error:
                raise PipelineError(explain(error, name, parameters)) from None

    @classmethod
    def __pydantic_init_subclass__(cls, **kwargs: Any) -> None:
        cls.__signature__ = _PARAMETERS  # type: ignore[assignment]
        if "step" in cls.model_fields and cls.model_fields["step"].default is not PydanticUndefined:
            cls.__doc__ = cls._described_with_parameters()

    @classmethod
    def _described_with_parameters(cls) -> str:
        """What `help` and editors show: the docstring, and a line for each parameter with its unit, default, limits and meaning."""
        lines = [f"    {name}: {_facts(cls.model_fields[name])}" for name in cls.parameters()]
        return "\n".join([inspect.cleandoc(cls.__doc__ or ""), "", "Parameters:", *lines])

    @classmethod
    def __pydantic_on_complete__(cls) -> None:
        cls.__signature__ = _PARAMETERS  # type: ignore[assignment]  # building the class has set another

    @classmethod
    def parameters(cls) -> list[str]:
        """Names of its parameters: its own first, then what it shares with others of its kind."""
        shared = [name for base in reversed(cls.__mro__[1:]) if issubclass(base, Step) for name in base.model_fields]
        own = [name for name in cls.model_fields if name not in shared]
        return [name for name in (*own, *(each for each in dict.fromkeys(shared) if each in cls.model_fields)) if name != "step"]

    def described(self, with_id: bool = True) -> str:
        """The step as code writes it: only what is not at its default."""
        shown = {name: getattr(self, name) for name in self.parameters() if with_id or name != "id"}
        facts = [f"{name}={value!r}" for name, value in shown.items() if value != type(self).model_fields[name].default]
        return f"{type(self).__name__}({', '.join(facts)})"

    def __repr__(self) -> str:
        return self.described()

    __str__ = __repr__

    @classmethod
    def name(cls) -> str:
        """The word used in pipeline files."""
        return str(cls.model_fields["step"].default)

    @classmethod
    def meaning(cls) -> str:
        """One line on what the step does: the first line of the class's docstring."""
        return (cls.__doc__ or "").strip().splitlines()[0]

    @property
    def varies(self) -> bool:
        """Whether its variants may differ: it happens to some of them only, or draws other values for each.

        >>> import varlen as v
        >>> v.Rotate(degrees=(-12, 12)).varies, v.Rotate(degrees=(5, 5)).varies, v.Rotate(degrees=(5, 5), probability=0.5).varies
        (True, False, True)
        """
        return self.probability > 0 and (self.probability < 1 or self.draws_differ())

    def draws_differ(self) -> bool:
        """Whether two variants for which the step happens may draw different values.

        As it stands: a range that is not one number. A step that draws in another way, or leaves a range unused, says so itself; one from
        a file of one's own that does not say is taken to draw.
        """
        return bool(self.source_digest) or self.ranges_are_open()

    def ranges_are_open(self) -> bool:
        """Whether one of its ranges is not one number."""
        return any(low != high for low, high in self.ranges().values())

    def ranges(self) -> dict[str, tuple[float, float]]:
        """Its ranges by parameter, those not given left out."""
        spans = {name: getattr(self, name) for name, field in type(self).model_fields.items() if is_span(field.json_schema_extra)}
        return {name: value for name, value in spans.items() if value is not None}

    @property
    def mirrors(self) -> frozenset[str]:
        """How it may mirror a picture: horizontal (left and right change places), vertical, both (a half turn); empty for a step that never does."""
        return frozenset()

    @property
    def most_turn(self) -> float:
        """The most degrees by which it may take a picture from upright, 0 … 180."""
        return 0.0

    @property
    def for_objects(self) -> bool:
        """Whether the step applies separately to each object's box (see `within`)."""
        return self.__dict__.get("within") == "objects"

    @property
    def for_each_frame(self) -> bool:
        """Whether the step draws anew for each frame of a clip or image of a group, where the others draw once (see `DetailStep`)."""
        return bool(self.__dict__.get("per_frame", False))

    @field_validator("*", mode="before")
    @classmethod
    def _range_is_a_pair(cls, value: Any, info: ValidationInfo) -> Any:
        """A number alone could mean "up to" or "exactly": it is refused."""
        field = cls.model_fields[info.field_name or ""]
        if is_span(field.json_schema_extra) and type(value) is not bool and isinstance(value, Real):
            raise ValueError(spellings(float(value), field.json_schema_extra, field.default))  # type: ignore[arg-type]
        return value

    @field_validator("*", mode="after")
    @classmethod
    def _within_limits(cls, value: Any, info: ValidationInfo) -> Any:
        extra = cls.model_fields[info.field_name or ""].json_schema_extra
        if not isinstance(extra, dict) or value is None or ("low" not in extra and "high" not in extra):
            return value
        low, high = float(extra["low"]), float(extra["high"])  # type: ignore[arg-type]
        unit = f" {extra['unit']}" if extra.get("unit") else ""
        for part in value if isinstance(value, tuple) else (value,):
            if not math.isfinite(part) or not low <= part <= high:
                raise ValueError(f"{part:g} is outside {low:g} … {high:g}{unit}")
        if extra.get("control") == "span" and value[0] > value[1]:
            raise ValueError(f"the range runs backwards: {value[0]:g} is above {value[1]:g}")
        return tuple(map(_positive_zero, value)) if isinstance(value, tuple) else _positive_zero(value)

    @model_serializer(mode="wrap")
    def _without_unused(self, handler: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """The full form, less the parameters that came later and are not used."""
        found: dict[str, Any] = handler(self)
        for name, field in type(self).model_fields.items():
            extra = field.json_schema_extra
            if isinstance(extra, dict) and extra.get("later") and getattr(self, name) == field.default:
                found.pop(name, None)
        return found

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        """Pick this variant's values: a small record that JSON can hold."""
        raise NotImplementedError

    def effect(self, drawn: Drawn, size: Size) -> Effect | None:
        """What the drawn values do to a picture of `size`; None for nothing at all."""
        raise NotImplementedError


class MoveStep(Step):
    """A step that moves pixels and labels."""

    kind: ClassVar[str] = "geometry"
    purpose: ClassVar[str] = "move"


class ColorStep(Step):
    """A step that changes each pixel's color independently of its neighbours."""

    kind: ClassVar[str] = "color"
    purpose: ClassVar[str] = "light"


class DetailStep(Step):
    """A step whose pixels depend on their neighbours, their place or on noise.

    A subclass writes `draw` and `apply`, and overrides `values` when the result depends on
    more than what was drawn.
    """

    kind: ClassVar[str] = "detail"
    purpose: ClassVar[str] = "texture"

    per_frame: bool = later(switch(False, "of a clip, or a group drawn as one: draw anew for each frame, as noise does in life"))

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        """All that the new pixels depend on besides the old ones, as plain values; None for no effect."""
        return drawn

    def effect(self, drawn: Drawn, size: Size) -> PixelOperation | None:
        """The step with its `values`; None where these are None."""
        values = self.values(drawn, size)
        return None if values is None else PixelOperation(self, values)

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """New pixels from (H, W, 3) uint8, contiguous; the old ones may be written to."""
        raise NotImplementedError

    def at_scale(self, values: Drawn, factor: float) -> Drawn | None:
        """The values that look the same in a picture `factor` times as large; None where the look depends on full-size pixels."""
        return None


class EdgedStep(MoveStep):
    """A step that may expose area the picture does not reach."""

    edges: Literal["solid", "extend", "mirror", "wrap"] = option("solid", "how exposed area is filled", edges=True)
    edge_color: Rgb = color((0, 0, 0), "the color of solid edges", when={"edges": ["solid"]})


def _facts(field: FieldInfo) -> str:
    """One line on a parameter: its default, its options or its limits with their unit, and its meaning."""
    extra: dict[str, Any] = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    options = get_args(field.annotation) if extra.get("control") in ("option", "scope") else extra.get("options", ())
    default = f"default {field.default!r}"
    if options:
        allowed = "one of " + ", ".join(map(repr, options)) if extra.get("control") != "several" else "some of " + ", ".join(map(str, options))
    elif "low" in extra and "high" in extra:
        kind = "range (low, high) within " if is_span(extra) else "whole number, " if extra.get("control") == "whole" else ""
        allowed = f"{kind}{extra['low']:g} … {extra['high']:g}{' ' + extra['unit'] if extra.get('unit') else ''}"
    else:
        allowed = "True or False" if extra.get("control") == "switch" else ""
    return f"{', '.join(part for part in (default, allowed) if part)}; {field.description or ''}".rstrip("; ")


def chosen_centre(size: Size, x: float | None, y: float | None) -> tuple[float, float]:
    """The point that stays in place: as chosen, in px, else the middle of the picture."""
    return (size.width / 2 if x is None else float(x), size.height / 2 if y is None else float(y))


def _positive_zero(value: Any) -> Any:
    """−0.0 and 0.0 are one number and must be one digest."""
    return 0.0 if isinstance(value, float) and value == 0.0 else value


def stream_key(stream: Stream) -> int:
    """A name for a stream of its own, short enough for every JSON reader."""
    return stream.below(MOST_KEY)


def whole_between(low: int, high: int, stream: Stream) -> int:
    """A whole number from `low` to `high`, both included."""
    return low + stream.below(high - low + 1)


CATALOGUE: dict[str, type[Step]] = {}
