"""The ranges with which a pipeline's variants cover a field and no more, found by solving and measuring again."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import optimize

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import evenly_spaced
from varlen.errors import VarlenError
from varlen.evidence.amounts import BRIGHTNESS, CONTRAST, GAMMA, KNOBS, STAGES, TONE, Knob, Setting, place_of, steps_of
from varlen.evidence.conditions import PIXEL_NAMES, covered, differs, inner_range, thumbnail_of, told_apart, wanted_range
from varlen.evidence.measuring import Measured, training_keys
from varlen.evidence.pixel_measures import light_of
from varlen.kernels.recolor import recolor
from varlen.model.effects import Recolor
from varlen.model.geometry import Size
from varlen.pipeline.document import Pipeline
from varlen.pipeline.plan import Colors
from varlen.render.renderer import Renderer
from varlen.steps.color import Gamma

Floats = NDArray[np.float64]
#: Rounds of measuring again at most, and corrections of what is set before the next stage is looked at.
ROUNDS, PATIENCE = 20, 3
#: A share of pairs this near to 0.5 is as good as alike.
NEAR = 0.12
#: How far beyond the field's range to aim, as a share of it: what is measured next time differs a little.
MARGIN = 0.02
#: A condition is covered well from here on.
ENOUGH = 0.96
#: Amounts that stand for a range.
GRID = 17
#: Pictures whose thumbnails decide how light is to be changed.
THUMBNAILS = 32
#: How far, in deviations of the field's contrast, a change of light may miss it and still explain it.
EXPLAINS = 0.5
#: Exponents tried beside a factor.
TONES = (0.4, 0.7, 1.0, 1.5, 2.5)
#: Below it a file's compression takes noise away that is to be matched.
GENTLE = 96.0
#: Chance below which a small difference is mended, too.
HARDLY = 0.01


def suggest(dataset: Dataset, pipeline: Pipeline, field: Measured, before: Measured, measure: Callable[[Pipeline], Measured]) -> list[Setting]:
    """Settings of the steps that are needed, none where field and variants are alike.

    before: the variants of the pipeline as it is; measure: conditions of variants of another pipeline, always of the same pictures and draws.
    """
    solver, last = _Solver(field), math.inf
    found, stage, best, least, waited = before, 0, list[Setting](), _fault([], field, before), 0
    for _ in range(ROUNDS):
        settled = waited >= PATIENCE or _settled(solver.settings, field, found)
        added: list[Knob] = []
        while settled and not added and stage < STAGES:
            added = _needed(stage, solver.settings, dataset, pipeline, field, found)
            stage += 1
        if settled and not added:
            # What was fine may have been moved by steps added later.
            added = [knob for late in range(1, STAGES) for knob in _needed(late, solver.settings, dataset, pipeline, field, found, finely=True)]
        if settled and not added and (waited >= PATIENCE or not solver.settings or _fault(solver.settings, field, found) == 0.0):
            break
        solver.correct(found)
        solver.settings += [_first_range(knob, field, found) for knob in added]
        found = measure(with_suggested(pipeline, solver.settings))
        fault = _fault(solver.settings, field, found)
        waited = 0 if added or fault < 0.9 * last else waited + 1
        last = fault
        if fault < least:
            best, least = list(solver.settings), fault
    return [setting for setting in best if _useful(setting)]


def _settled(settings: list[Setting], field: Measured, found: Measured) -> bool:
    """Whether the conditions of what is set lie where the field's do: the next stage may build on them."""
    return not any(abs(told_apart(compared(name, field), compared(name, found))[0] - 0.5) > NEAR
                   for name in {setting.knob.condition for setting in settings})  # fmt: skip


class _Solver:
    """Settings, each moved by what the variants miss the field by; how far an end answers is learned from its last move."""

    def __init__(self, field: Measured) -> None:
        self.field = field
        self.settings: list[Setting] = []
        self._moves: dict[str, tuple[float, float]] = {}
        self._answers: dict[str, float] = {}

    def correct(self, found: Measured) -> None:
        """Move every range by what was measured with it."""
        self.settings = [setting if setting.knob.condition == "compression" else self._corrected(setting, found) for setting in self.settings]

    def _corrected(self, setting: Setting, found: Measured) -> Setting:
        """Both ends by what the middle misses; then each outwards by what it leaves uncovered, or both inwards by what is
        more than that takes."""
        knob = setting.knob
        values = knob.seen(found)
        low, middle, high = _aim(knob, self.field)
        bottom, top = inner_range(values)
        median = float(np.median(values))
        down, up = (_shift(knob, end) for end in (setting.low, setting.high))
        slope = self._slope(knob, (down + up) / 2, median)
        moved = (middle - median) / slope
        centre = (down + up) / 2 + moved
        under, over = (low - bottom) / slope - moved, (high - top) / slope - moved
        if covered(compared(knob.condition, self.field), compared(knob.condition, found)) < ENOUGH:
            under, over = min(under, 0.0), max(over, 0.0)
        else:
            spare = 0.7 * max(0.0, min(under, -over))
            under, over = spare, -spare
        return setting.moved(_amount(knob, min(down + moved + under, centre)), _amount(knob, max(up + moved + over, centre)))

    def _slope(self, knob: Knob, shift: float, answer: float) -> float:
        """How far the median moves with the range: as between the last two rounds, within a few times what is usual."""
        name = f"{knob.step} {knob.parameter}"
        before = self._moves.get(name)
        self._moves[name] = (shift, answer)
        # Light answers as expected, and several of its knobs move at once: only grain and blur are learned.
        if knob.place == "detail" and before is not None and abs(shift - before[0]) > 1e-6:
            ratio = (answer - before[1]) / (shift - before[0]) / knob.slope
            self._answers[name] = min(max(ratio, 0.15), 2.0)
        return knob.slope * self._answers.get(name, 1.0)


def with_suggested(pipeline: Pipeline, settings: list[Setting]) -> Pipeline:
    """The pipeline with the suggested steps in it: at a camera's size, before what makes every picture the model's size."""
    return with_steps(pipeline, steps_of(settings))


def with_steps(pipeline: Pipeline, added: Sequence[dict[str, Any]]) -> Pipeline:
    """The pipeline with steps of a suggestion in their places; ids that are taken get a number."""
    document = pipeline.to_json()
    steps = list(document["steps"])
    place = next((n for n, step in enumerate(steps) if step.get("scope") == "every" and step["step"] in ("resize", "crop", "pad")), len(steps))
    taken = {step.id for step in pipeline.all_steps()}
    parts: dict[str, list[dict[str, Any]]] = {"first": [], "light": [], "detail": []}
    for step in added:
        wanted = str(step.get("id") or step.get("step", ""))
        name, number = wanted, 2
        while name in taken:
            name, number = f"{wanted}-{number}", number + 1
        taken.add(name)
        parts[place_of(str(step.get("step", "")))].append({**step, "id": name})
    document["steps"] = [*parts["first"], *steps[:place], *parts["light"], *parts["detail"], *steps[place:]]
    return Pipeline.from_json(document)


def _needed(stage: int, settings: list[Setting], dataset: Dataset, pipeline: Pipeline, field: Measured, found: Measured,
            finely: bool = False) -> list[Knob]:  # fmt: skip
    """The knobs of a stage, not yet set, whose conditions differ and that move them the right way. finely: smaller differences, too."""
    there = {setting.knob.condition for setting in settings}

    def wanted(knob: Knob) -> bool:
        name = knob.condition
        if knob.stage != stage or name in there or not _can_tell(name, field, found):
            return False
        return _differs(name, field, found) or _hides_noise(knob, field, found) or (finely and _off(name, field, found))

    knobs = [knob for knob in KNOBS if wanted(knob)]
    if stage == 0 and not there & {"brightness", "contrast"} and (_differs("brightness", field, found) or _differs("contrast", field, found)):
        knobs = [*_light_knobs(dataset, pipeline, field), *knobs]
    return [knob for knob in knobs if _useful(_first_range(knob, field, found))]


def _off(name: str, field: Measured, found: Measured) -> bool:
    """Whether a condition lies a little elsewhere, and not by chance alone: enough to mend once steps are needed at all."""
    share, chance = told_apart(compared(name, field), compared(name, found))
    return abs(share - 0.5) > NEAR and chance < HARDLY


def _hides_noise(knob: Knob, field: Measured, found: Measured) -> bool:
    """Whether noise is to be matched that the field's own compression has taken part of away: it is to be compressed alike."""
    return knob.condition == "compression" and float(np.median(field.of("compression"))) < GENTLE and _differs("noise", field, found)


def _useful(setting: Setting) -> bool:
    """Whether a range does anything: not where the knob's end is its neutral amount."""
    return max(abs(setting.low - setting.knob.neutral), abs(setting.high - setting.knob.neutral)) > 1e-3


def compared(name: str, measured: Measured) -> Floats:
    """A condition's values as they are compared: nobody sees a difference between JPEG qualities above 90."""
    values = measured.of(name)
    return np.minimum(values, 90.0) if name == "compression" else values


def _can_tell(name: str, field: Measured, found: Measured) -> bool:
    return len(field.of(name)) > 0 and len(found.of(name)) > 0


def _differs(name: str, field: Measured, found: Measured) -> bool:
    return differs(compared(name, field), compared(name, found))


def _aim(knob: Knob, field: Measured) -> tuple[float, float, float]:
    """Least, middle and largest coordinate to be reached."""
    values = np.sort(knob.seen(field))
    low, high = wanted_range(values)
    margin = MARGIN * (high - low)
    return low - margin, float(np.median(values)), high + margin


def _first_range(knob: Knob, field: Measured, found: Measured) -> Setting:
    """The range that brings variants without the knob to the field, if it moved all of them alike."""
    setting = Setting(knob, knob.neutral, knob.neutral)
    if knob.condition == "compression":  # an amount is the condition itself, and the lower of two counts
        low, high = wanted_range(field.of("compression"))
        return setting.moved(low, high)
    values = knob.seen(found)
    low, middle, high = _aim(knob, field)
    bottom, top = inner_range(values)
    centre = (middle - float(np.median(values))) / knob.slope
    down, up = min((low - bottom) / knob.slope, centre), max((high - top) / knob.slope, centre)
    if covered(knob.seen(field), values + knob.slope * centre) >= ENOUGH:
        return setting.moved(*[_amount(knob, centre)] * 2)
    for _ in range(8):
        down, up = _end(knob, values, low, down, up, centre, lower=True), _end(knob, values, high, down, up, centre, lower=False)
    return setting.moved(_amount(knob, down), _amount(knob, up))


def _shift(knob: Knob, amount: float) -> float:
    """An amount's coordinate from the neutral one's."""
    return float(knob.shift(np.array(amount))) - float(knob.shift(np.array(knob.neutral)))


def _amount(knob: Knob, shift: float) -> float:
    """The amount whose coordinate lies `shift` from the neutral one's, within the knob's limits."""
    neutral = float(knob.shift(np.array(knob.neutral)))
    low, high = float(knob.shift(np.array(knob.low))), float(knob.shift(np.array(knob.high)))
    wanted = min(max(neutral + shift, low), high)
    if wanted in (low, high):
        return knob.low if wanted == low else knob.high
    return float(optimize.brentq(lambda amount: float(knob.shift(np.array(amount))) - wanted, knob.low, knob.high))


def _end(knob: Knob, values: Floats, aim: float, down: float, up: float, centre: float, lower: bool) -> float:
    """One end of a range of shifts, the other kept: as near to the centre as its 1 or 99 % value still comes to the aim."""
    neutral = float(knob.shift(np.array(knob.neutral)))

    def beyond(end: float) -> float:
        """How far the variants reach beyond the aim; below 0 where they fall short."""
        ends = sorted((_amount(knob, end if lower else down), _amount(knob, up if lower else end)))
        amounts = np.geomspace(ends[0], ends[1], GRID) if knob.shift is np.log else np.linspace(ends[0], ends[1], GRID)
        spread = inner_range((values[:, None] + knob.slope * (knob.shift(amounts) - neutral)[None, :]).ravel())
        return aim - spread[0] if lower else spread[1] - aim

    if beyond(centre) >= 0:
        return centre
    reach = max(abs(down - centre), abs(up - centre), 0.1) * 4
    far = centre - reach if lower else centre + reach
    return far if beyond(far) < 0 else float(optimize.brentq(beyond, *sorted((far, centre)), xtol=1e-4))


def _fault(settings: list[Setting], field: Measured, found: Measured) -> float:
    """What is wrong with variants, over all conditions: field uncovered, medians elsewhere, and ranges that reach beyond it; 0 where all is well."""
    fault = 0.0
    for name in PIXEL_NAMES:
        theirs, ours = compared(name, field), compared(name, found)
        fault += max(0.0, ENOUGH - covered(theirs, ours)) + max(0.0, abs(told_apart(theirs, ours)[0] - 0.5) - NEAR)
    for setting in settings:
        low, _, high = _aim(setting.knob, field)
        bottom, top = inner_range(setting.knob.seen(found))
        if setting.high > setting.low:
            # What the variants spread without the range is not its fault.
            own = setting.knob.slope * (_shift(setting.knob, setting.high) - _shift(setting.knob, setting.low))
            beyond = min(max(0.0, low - bottom) + max(0.0, top - high), abs(own))
            fault += 0.5 * max(0.0, beyond / max(high - low, 1e-9) - 0.15)
    return fault


def _light_knobs(dataset: Dataset, pipeline: Pipeline, field: Measured) -> list[Knob]:
    """How brightness and contrast are to be changed: by a gamma, by a factor, by both, or by a factor and one for contrast.

    Each is solved on thumbnails for the field's median brightness; a single change is taken where it explains the contrast, too, else a
    gamma with a factor where there is one that does.
    """
    thumbnails = _thumbnails(dataset, pipeline)
    if not thumbnails:
        return []
    brightness, contrast = float(np.median(field.of("brightness"))), np.log(np.maximum(field.of("contrast"), 1e-3))
    tolerance = EXPLAINS * max(float(contrast.std()), 0.05)

    def solved(change: Callable[[float], Colors], knob: Knob) -> float | None:
        """How far the contrast lies off once a change has brought the brightness; None where none does."""

        def miss(amount: float) -> float:
            return float(np.median([_after(each, change(amount))["brightness"] for each in thumbnails])) - brightness

        if miss(knob.low) * miss(knob.high) > 0:
            return None
        amount = float(optimize.brentq(miss, knob.low, knob.high, xtol=1e-3))
        reached = np.median([np.log(max(_after(each, change(amount))["contrast"], 1e-3)) for each in thumbnails])
        return float(reached - np.median(contrast))

    alone = [(miss, knob) for knob, change in ((GAMMA, _gamma), (BRIGHTNESS, _gain)) if (miss := solved(change, knob)) is not None]
    nearest = min(alone, key=lambda each: abs(each[0]), default=None)
    if nearest is not None and abs(nearest[0]) <= tolerance:
        return [nearest[1]]
    misses = [solved(lambda factor, tone=tone: (*_gamma(tone), *_gain(factor)), BRIGHTNESS) for tone in TONES]  # type: ignore[misc]
    known = [miss for miss in misses if miss is not None]
    return [BRIGHTNESS, TONE] if known and min(known) <= 0.0 <= max(known) else [BRIGHTNESS, CONTRAST]


def _thumbnails(dataset: Dataset, pipeline: Pipeline) -> list[NDArray[np.uint8]]:
    renderer = Renderer(dataset, pipeline)
    found = []
    for key in evenly_spaced(list(training_keys(dataset)), THUMBNAILS):
        try:
            found.append(thumbnail_of(renderer.pixels(renderer.plan(key, 0))))
        except VarlenError:
            continue
    return found


def _after(thumbnail: NDArray[np.uint8], change: Colors) -> dict[str, float]:
    made = np.array(thumbnail, order="C")
    for each in change:
        recolor(made, (0, 0, made.shape[1], made.shape[0]), (each,))
    return light_of(made, np.ones(made.shape[:2], np.bool_))


def _gamma(exponent: float) -> Colors:
    return (Gamma().effect({"exponent": exponent}, Size(1, 1)),)


def _gain(factor: float) -> Colors:
    return (Recolor.gains(factor, factor, factor),)


__all__ = ["compared", "suggest", "with_steps", "with_suggested"]
