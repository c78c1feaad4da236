"""A step of one's own from a function: its signature becomes parameters, schema, screen control and documentation.

The function's source text enters the digest of pipelines that use it, so a changed step never passes for the old one.
"""

from __future__ import annotations

import hashlib
import importlib
import importlib.util
import inspect
import json
import sys
import textwrap
from collections.abc import Callable, Sequence
from functools import lru_cache, partial
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal, NamedTuple, get_args, get_origin

from pydantic import create_model

from varlen.draws import Stream
from varlen.errors import PipelineError, RenderError, StepFileError
from varlen.model.effects import Bend, Move, SampledField
from varlen.model.geometry import Matrix, Size
from varlen.steps.base import CATALOGUE, DetailStep, DrawContext, Drawn, EdgedStep, Step, stream_key
from varlen.steps.parameters import Rgb, Span, color, number, option, span, switch, whole
from varlen.steps.problems import spellings

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

#: The part of a drawn record that says which random numbers the function gets.
KEY = "stream"
#: A picture of fewer px a side can't be bent.
SMALLEST_BENT = 8


class Range(NamedTuple):
    """A parameter that is drawn: a number from a range. unit: for people; low, high: the hard limits; log: halving is as likely as doubling.

    >>> import varlen as v
    >>> v.Range("share of level", 0, 1)
    Range(unit='share of level', low=0, high=1, log=False)
    """

    unit: str
    low: float
    high: float
    log: bool = False


class Number(NamedTuple):
    """A parameter that is one number, the same for every draw. unit: for people; low, high: the hard limits; whole: whether it is a whole one.

    >>> import varlen as v
    >>> v.Number("px", 1, 200, whole=True).unit
    'px'
    """

    unit: str
    low: float
    high: float
    whole: bool = False


class _FunctionStep(Step):
    """What both kinds of steps made from functions share."""

    function: ClassVar[Callable[..., Any]]
    drawn_names: ClassVar[tuple[tuple[str, bool], ...]] = ()
    fixed_names: ClassVar[tuple[str, ...]] = ()
    takes_stream: ClassVar[bool] = False

    def draws_differ(self) -> bool:
        """A function that takes a stream gets other random numbers each time."""
        return self.takes_stream or self.ranges_are_open()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        drawn: Drawn = {}
        for name, log in self.drawn_names:
            low, high = getattr(self, name)
            drawn[name] = stream.factor(low, high) if log else stream.uniform(low, high)
        if self.takes_stream:
            drawn[KEY] = stream_key(stream)
        return drawn

    def _given(self, drawn: Drawn) -> Drawn:
        """What was drawn, and what is fixed."""
        return {**drawn, **{name: getattr(self, name) for name in self.fixed_names}}

    def _called(self, first: Any, given: Drawn) -> Any:
        """The function with all its values. Raises `RenderError` naming the step for anything it raises."""
        if self.takes_stream:
            given = {**given, KEY: Stream(given[KEY], "", 0, self.step)}
        try:
            return type(self).function(first, **given)
        except Exception as error:  # an error in the function is its author's to mend
            raise RenderError(f"step {self.id or self.step}: {type(error).__name__}: {str(error)[:200]}") from error


class _PixelStep(_FunctionStep, DetailStep):
    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return self._given(drawn)

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        found: NDArray[np.uint8] = self._called(pixels, values)
        return found


class _MatrixStep(_FunctionStep, EdgedStep):
    def effect(self, drawn: Drawn, size: Size) -> Move:
        found = self._called(size, self._given(drawn))
        try:
            numbers = [float(value) for row in found for value in row]
        except (TypeError, ValueError):
            numbers = []
        if len(numbers) != 9 or not all(abs(value) < 1e12 for value in numbers):
            raise RenderError(f"step {self.id or self.step}: must give back a 3×3 matrix, rows of numbers, not {found!r:.80}")
        return Move(Matrix(*numbers), size, self.edges, self.edge_color)


class Values(dict[str, Any]):
    """The values of a step's parameters, by name or as attributes."""

    def __getattr__(self, name: str) -> Any:
        try:
            return self[name]
        except KeyError:
            raise AttributeError(f"there is no parameter {name!r}; known are {', '.join(self)}") from None


class _WarpStep(_FunctionStep, EdgedStep):
    inverse: ClassVar[Callable[..., Any] | None] = None

    def effect(self, drawn: Drawn, size: Size) -> Bend | None:
        if min(size) < SMALLEST_BENT:
            return None
        return Bend(_warp_field(type(self), self.id or self.step, json.dumps(self._given(drawn), sort_keys=True), size), self.edges, self.edge_color)


@lru_cache(maxsize=64)
def _warp_field(cls: type[_WarpStep], name: str, given: str, size: Size) -> SampledField:
    """The field of a warp with its values, given as JSON. Raises `RenderError` naming the step for a warp that folds, mirrors or has no way back."""
    import numpy as np

    from varlen.kernels.bends import sampled, way_back_of

    known: Drawn = json.loads(given)

    def on_points(function: Callable[..., Any]) -> Callable[[NDArray[np.float64]], NDArray[np.float64]]:
        return partial(called, function, [each for each in inspect.signature(function).parameters if each in known])

    def called(function: Callable[..., Any], wanted: Sequence[str], points: NDArray[np.float64]) -> NDArray[np.float64]:
        values = Values(known)
        if cls.takes_stream:
            values[KEY] = Stream(values[KEY], "", 0, name)  # each call draws the same
        named = {each: values[each] for each in wanted}
        try:
            found = np.asarray(function(points.copy(), values, size, **named), np.float64)
        except Exception as error:  # an error in the function is its author's to mend
            raise RenderError(f"step {name}: {type(error).__name__}: {str(error)[:200]}") from error
        if found.shape != points.shape:
            raise RenderError(f"step {name}: must give back points of the shape it gets, {points.shape}, not {found.shape}")
        return found

    inverse = cls.inverse
    way_back = way_back_of(on_points(cls.function), size, None if inverse is None else on_points(inverse))

    def back(points: NDArray[np.float64]) -> NDArray[np.float64]:
        found, known = way_back(points)
        wrong = ~known & ((points >= 0) & (points <= np.array(size)) & (found > 1) & (found < np.array(size) - 1)).all(axis=1)
        if wrong.any() or not np.isfinite(found).all():
            x, y = points[int(np.argmax(wrong))]
            what = "folds, mirrors or tears the picture" if inverse is None else "the inverse leads elsewhere, or the picture folds,"
            raise RenderError(f"step {name}: {what} at x {x:.0f}, y {y:.0f} px of {size.width}×{size.height}")
        return found

    return sampled(back, size, f"{cls.source_digest} {given}")


def step(function: Callable[..., Any] | None = None, *, kind: Literal["", "warp"] = "", inverse: Callable[..., Any] | None = None) -> Any:
    """Make a step of a function, and add it to the catalogue under the function's name.

    A function whose first parameter is `size` gets the picture's width and height and gives back a 3×3 matrix, rows of numbers, that
    takes points x, y of the picture to where they go: boxes, outlines and all other labels follow. With kind="warp", the function gets points
    (N, 2) float64 px, the values of its parameters and the size, and gives back where the points go; the way back is found by Newton's method,
    or by `inverse`, a function of the same form. Labels follow there too; a warp that folds is refused. Any other gets pixels (H, W, 3) uint8,
    which it may write to, and gives back pixels of the same shape and type; labels stay. All further parameters are given by name, have a
    default, and say what they are: `Range` (drawn for each variant), `Number`, bool, or Literal words. One called `stream` gets random numbers of its
    own (`stream.uniform(low, high)`, `stream.below(count)`). The docstring's first line is the step's meaning; lines "name: meaning"
    in it are those of parameters. Raises `StepFileError` for a function that can't be a step.

    >>> import numpy as np, varlen as v
    >>> @v.step
    ... def dim(pixels, *, strength: v.Range("share of level", 0, 1) = (0, 0.2)):
    ...     "Darken the whole picture."
    ...     return (pixels * (1 - strength)).astype(np.uint8)
    >>> v.Pipeline([dim(strength=(0.5, 0.5))])
    Pipeline([dim(strength=(0.5, 0.5))])
    """
    if function is None:
        return lambda given: step(given, kind=kind, inverse=inverse)
    if kind not in ("", "warp"):
        raise StepFileError(f"@step: kind: {kind!r} is not 'warp'; a function of pixels or of the size needs none")
    name = getattr(function, "__name__", "")
    if not callable(function) or isinstance(function, type) or name == "<lambda>":
        raise StepFileError(f"@step: expected a function with a name, not {function!r:.60}")
    held = CATALOGUE.get(name)
    if held is not None and not issubclass(held, _FunctionStep):
        raise StepFileError(f"@step: the step name {name!r} is taken")
    cls = _step_class(function, name, kind, inverse)
    CATALOGUE[name] = cls
    return cls


def _step_class(function: Callable[..., Any], name: str, kind: str, inverse: Callable[..., Any] | None) -> type[Step]:
    signature = inspect.signature(function, eval_str=True)
    first, *others = signature.parameters.values() or (None,)
    if kind == "warp":
        if len(others) < 2:
            raise StepFileError(f"@step: {name}: a warp takes points, values and size; write def {name}(points, values, size, *, …)")
        others = others[2:]
    if first is None or first.kind is first.KEYWORD_ONLY:
        raise StepFileError(f"@step: {name} takes no pixels; write def {name}(pixels, *, …)")
    meanings = _meanings(function)
    fields: dict[str, Any] = {"step": (Literal[name], name)}
    drawn, fixed = [], []
    for parameter in others:
        if parameter.name == KEY:
            continue
        control = _control(parameter.annotation, name, parameter.name)
        if parameter.default is parameter.empty:
            raise StepFileError(f"@step: {name}: {parameter.name} needs a default")
        if parameter.name in Step.model_fields or parameter.name == "per_frame":
            raise StepFileError(f"@step: {name}: {parameter.name!r} is a name that every step has; call it otherwise")
        fields[parameter.name] = _field(
            control, f"{name}: {parameter.name}", parameter.default, meanings.get(parameter.name, parameter.name.replace("_", " "))
        )
        if isinstance(control, Range):
            drawn.append((parameter.name, control.log))
        else:
            fixed.append(parameter.name)
    base = _WarpStep if kind == "warp" else _MatrixStep if first.name == "size" else _PixelStep
    meaning = function.__doc__ or name.replace("_", " ").capitalize() + "."
    cls: type[_FunctionStep] = create_model(name, __base__=base, __module__=function.__module__, __doc__=meaning, **fields)
    cls.__qualname__ = function.__qualname__
    cls.function = staticmethod(function)
    cls.drawn_names, cls.fixed_names = tuple(drawn), tuple(fixed)
    cls.takes_stream = KEY in signature.parameters
    cls.source_digest = _source_digest(function, name)
    if issubclass(cls, _WarpStep) and inverse is not None:
        cls.inverse = staticmethod(inverse)
        cls.source_digest = hashlib.sha256(f"{cls.source_digest}{_source_digest(inverse, name)}".encode()).hexdigest()
    try:
        cls(step=name)
    except PipelineError as error:
        raise StepFileError("\n".join(f"@step: {problem}" for problem in error.problems)) from None
    return cls


def _control(hint: Any, name: str, parameter: str) -> Any:
    """What a parameter is: a `Range`, a `Number`, bool, or words."""
    if get_origin(hint) is Annotated:
        hint = next((each for each in get_args(hint)[1:] if isinstance(each, (Range, Number))), get_args(hint)[0])
    if isinstance(hint, (Range, Number)) or hint is bool or get_origin(hint) is Literal or hint is Rgb:
        return hint
    raise StepFileError(f'@step: {name}: {parameter} must say what it is, such as {parameter}: Range("share of level", 0, 1) = (0, 0.2); '
                        "Number, bool and Literal words are known too")  # fmt: skip


def _field(control: Any, name: str, default: Any, meaning: str) -> tuple[Any, Any]:
    match control:
        case Range(unit, low, high, log):
            if isinstance(default, (int, float)):
                raise StepFileError(f"@step: {name}: {spellings(default, {'low': low, 'high': high, 'log': log}, None)}")
            return Span, span(default, meaning, unit=unit, low=low, high=high, log=log)
        case Number(unit, low, high, True):
            return int, whole(default, meaning, unit=unit, low=int(low), high=int(high))
        case Number(unit, low, high):
            return float, number(default, meaning, unit=unit, low=low, high=high)
    if control is bool:
        return bool, switch(default, meaning)
    return (control, color(default, meaning)) if control is Rgb else (control, option(default, meaning))


def _meanings(function: Callable[..., Any]) -> dict[str, str]:
    lines = (line.strip().partition(": ") for line in (function.__doc__ or "").splitlines())
    return {name: meaning for name, colon, meaning in lines if colon and name.isidentifier()}


def _source_digest(function: Callable[..., Any], name: str) -> str:
    try:
        source = textwrap.dedent(inspect.getsource(function))
    except (OSError, TypeError):
        raise StepFileError(f"@step: the source of {name} can't be read, and without it no digest can tell whether it has changed; "
                            "define it in a file or a notebook cell") from None  # fmt: skip
    return hashlib.sha256(source.encode()).hexdigest()


def modules_of(steps: Sequence[Step]) -> list[str]:
    """The modules that have to be imported where steps made from functions are to be known."""
    return sorted({type(each).__module__ for each in steps if isinstance(each, _FunctionStep)})


def import_steps(modules: Sequence[str]) -> None:
    """Import the modules of steps made from functions, as far as they can be: each then adds its steps to the catalogue."""
    for module in modules:
        if module not in sys.modules and _importable_by_name(module):
            importlib.import_module(module)


def _importable_by_name(module: str) -> bool:
    """Whether there is such a module. Step files are read by every process by itself."""
    if module.startswith("varlen_outside_") or module in ("__main__", "__mp_main__"):
        return False
    try:
        return importlib.util.find_spec(module) is not None
    except (ImportError, ValueError):
        return False


def check_importable(steps: Sequence[Step], where: str) -> None:
    """Raises `StepFileError` where a step made from a function can't be had by importing its module. where: who has to import it."""
    for each in steps:
        if isinstance(each, _FunctionStep) and not _importable(type(each).__module__):
            raise StepFileError(f"step {each.step}: it was defined in a notebook or script, which {where} can't import; put it into a module or "
                                "into a file named in VARLEN_STEPS")  # fmt: skip


def all_importable(steps: Sequence[Step]) -> bool:
    """Whether other processes can have all steps by importing their modules."""
    return all(_importable(module) for module in modules_of(steps))


def _importable(module: str) -> bool:
    return module.startswith("varlen_outside_") or _importable_by_name(module)
