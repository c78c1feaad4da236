"""Match the field: do a pipeline's variants look like the pictures a model will meet, and which ranges would make them?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import evenly_spaced
from varlen.errors import EvidenceError
from varlen.evidence.amounts import KNOBS, WITHOUT_KNOB, Knob, Setting, steps_of
from varlen.evidence.conditions import ALL, BY_NAME, LABEL_NAMES, PIXEL_NAMES, Condition, covered, differs, span_of, told_apart, within
from varlen.evidence.domain_classifier import Told, tell_apart
from varlen.evidence.measuring import Measured, Measurer, Wanted, training_keys
from varlen.evidence.suggestion import compared, suggest, with_suggested
from varlen.pipeline.document import Pipeline

#: Fewer pictures say nothing about a range.
FEWEST = 5
#: So many pictures of a side are measured, spread evenly over it.
MOST_FIELD, MOST_TRAINING = 1000, 400
#: Variants that a suggestion is tried on, and that the result is told from.
TRIED, TOLD = 60, 200


@dataclass(frozen=True)
class Match:
    """What a match found; prints as a table, `to_json` for all of it."""

    field_name: str
    training: Measured
    before: Measured
    after: Measured
    theirs: Measured
    told_before: Told
    told_after: Told
    settings: list[Setting]
    suggested: Pipeline
    pipeline: Pipeline
    unreached: list[str]
    notes: list[str] = field(default_factory=list)

    @property
    def auc_before(self) -> float:
        """How well field and variants are told apart as things are, 0.5 … 1."""
        return self.told_before.auc

    @property
    def auc_after(self) -> float:
        """The same with the suggested steps."""
        return self.told_after.auc

    def to_json(self, values: bool = False) -> dict[str, Any]:
        """As plain values. values: also every picture's, for plots."""
        return {
            "auc_before": round(self.told_before.auc, 4),
            "auc_before_interval": [round(self.told_before.low, 4), round(self.told_before.high, 4)],
            "auc_after": round(self.told_after.auc, 4),
            "auc_after_interval": [round(self.told_after.low, 4), round(self.told_after.high, 4)],
            "pictures": {"training": len(self.training), "variants": len(self.after), "field": len(self.theirs)},
            "conditions": [self._condition(each, values) for each in self._told()],
            "suggested": self.suggested.to_json(),
            "pipeline": self.pipeline.to_json(),
            "evidence": [self._reason(setting) for setting in self.settings],
            "unreached": self.unreached,
            "uncovered": self._uncovered(),
            "notes": self.notes,
        }

    def _told(self) -> list[Condition]:
        return [each for each in ALL if len(self.theirs.of(each.name)) and len(self.before.of(each.name)) and len(self.after.of(each.name))]

    def _condition(self, condition: Condition, values: bool) -> dict[str, Any]:
        name = condition.name
        sets = {"training": self.training, "variants": self.after, "field": self.theirs, "variants_before": self.before}
        compared_field = compared(name, self.theirs)
        found: dict[str, Any] = {
            "name": name,
            "unit": condition.unit,
            "low": condition.low,
            "high": condition.high,
            **{each: [_short(value) for value in span_of(measured.of(name))] for each, measured in sets.items()},
            "covered_before": round(covered(compared_field, compared(name, self.before)), 4),
            "covered_after": round(covered(compared_field, compared(name, self.after)), 4),
            "differs_before": differs(compared_field, compared(name, self.before)),
            "differs_after": differs(compared_field, compared(name, self.after)),
        }
        if values:
            found["values"] = {each: [_short(value) for value in measured.of(name).tolist()] for each, measured in sets.items()}
        return found

    def _reason(self, setting: Setting) -> dict[str, Any]:
        """Why a step is suggested, in words and numbers."""
        name = setting.knob.condition
        condition = BY_NAME[name]
        ours, theirs = float(np.median(self.before.of(name))), float(np.median(self.theirs.of(name)))
        if abs(theirs - ours) < 0.02 * max(abs(theirs), abs(ours), 1e-9):
            words = f"the field's {name} varies more"
        else:
            words = f"the field is {condition.high if theirs > ours else condition.low}"
        return {
            "step": next(step["id"] for step in steps_of(self.settings) if step["step"] == setting.knob.step),
            "parameter": setting.knob.parameter,
            "condition": name,
            "says": f"{words}: median {_said(theirs)} against {_said(ours)} {condition.unit}",
            "covered_before": round(covered(compared(name, self.theirs), compared(name, self.before)), 4),
            "covered_after": round(covered(compared(name, self.theirs), compared(name, self.after)), 4),
        }

    def _uncovered(self) -> list[dict[str, Any]]:
        """Field pictures outside the present variants' ranges, those with most conditions first."""
        outside: dict[str, list[str]] = {}
        for name in PIXEL_NAMES:
            inside = within(compared(name, self.theirs), compared(name, self.before))
            for place in np.flatnonzero(~inside).tolist():
                outside.setdefault(self.theirs.keys[place], []).append(name)
        ordered = sorted(outside.items(), key=lambda item: (-len(item[1]), item[0]))
        return [{"picture": key, "conditions": names} for key, names in ordered]

    def __repr__(self) -> str:
        return f"Match(auc_before={self.auc_before:.2f}, auc_after={self.auc_after:.2f}, steps={[step.step for step in self.suggested]})"


def _short(value: float) -> float:
    return float(f"{value:.5g}")


def _said(value: float) -> str:
    return f"{value:.3g}"


def match(dataset: Dataset, field: Dataset, pipeline: Pipeline | None = None, *, workers: int = 1,
          progress: Callable[[str, int], None] = lambda what, done: None, stop: Callable[[], None] = lambda: None) -> Match:  # fmt: skip
    """How a field's pictures lie against training pictures and a pipeline's variants, and the steps that would cover them.

    field: pictures from where the model will work; labels are compared where both have some. workers: processes; progress: told what is
    being done and how many pictures of it are; stop: called now and then, may raise. Raises `EvidenceError` for too few pictures.
    """
    given = pipeline or Pipeline(name="Nothing yet")
    keys = list(training_keys(dataset))
    _enough(len(keys), dataset.name, "training pictures")
    _enough(len(field), field.name, "field pictures")
    what = ""

    def on_progress(done: int) -> None:
        progress(what, done)

    with Measurer(workers, on_progress, stop) as measurer:
        what = "field"
        theirs = measurer.measure(field, given, [(key, 0) for key in evenly_spaced(list(field.entries), MOST_FIELD)])
        _enough(len(theirs), field.name, "field pictures that can be read")
        what = "training"
        ours = measurer.measure(dataset, given, [(key, 0) for key in evenly_spaced(keys, MOST_TRAINING)])
        _enough(len(ours), dataset.name, "training pictures that can be read")
        what = "variants"
        before = measurer.measure(dataset, given, _variants(keys, TOLD)) if given.alters_training else ours
        _enough(len(before), dataset.name, "variants that can be made")
        told_before = _tell(theirs, before)
        settings: list[Setting] = []
        if told_before.low > 0.5 or any(differs(compared(name, theirs), compared(name, before)) for name in PIXEL_NAMES):
            what = "suggestion"
            settings = suggest(dataset, given, theirs, before, lambda tried: measurer.measure(dataset, tried, _variants(keys, TRIED)))
        after, told_after = before, told_before
        if settings:
            what = "result"
            after = measurer.measure(dataset, with_suggested(given, settings), _variants(keys, TOLD))
            told_after = _tell(theirs, after)
    name = f"Matched to {field.name}"
    suggested = Pipeline(steps_of(settings), seed=given.seed, name=name)
    whole = with_suggested(given, settings) if settings else given
    if pipeline is None:
        whole = suggested
    return Match(field.name, ours, before, after, theirs, told_before, told_after, settings, suggested, whole,
                 _unreached(theirs, after, settings), _notes(theirs, ours, before))  # fmt: skip


def _enough(count: int, name: str, what: str) -> None:
    if count < FEWEST:
        raise EvidenceError(f"{name}: {count} {what}; a match needs at least {FEWEST} on each side, and says little below 30")


def _variants(keys: list[str], count: int) -> list[Wanted]:
    """So many variants, of as many different pictures as there are."""
    chosen = evenly_spaced(keys, count)
    times = -(-count // len(chosen))
    return [(key, variant) for variant in range(1, times + 1) for key in chosen][:count]


def _tell(field: Measured, variants: Measured) -> Told:
    one, other = (np.stack([compared(name, each) for name in PIXEL_NAMES], axis=1) for each in (variants, field))
    return tell_apart(one, variants.keys, other, field.keys)


def _unreached(field: Measured, after: Measured, settings: list[Setting]) -> list[str]:
    """Conditions that the steps do not bring to the field, and why."""
    found = []
    for name in (*PIXEL_NAMES, *LABEL_NAMES):
        theirs, ours = (compared(name, each) for each in (field, after))
        if not len(theirs) or not len(ours) or not differs(theirs, ours):
            continue
        condition = BY_NAME[name]
        higher = told_apart(theirs, ours)[0] >= 0.5
        how = condition.high if higher else condition.low
        found.append(f"{name}: the field is {how} (median {_said(float(np.median(theirs)))} against {_said(float(np.median(ours)))} "
                     f"{condition.unit}); {_why(name, higher, settings)}")  # fmt: skip
    return found


def _why(name: str, higher: bool, settings: list[Setting]) -> str:
    if name in WITHOUT_KNOB:
        return WITHOUT_KNOB[name]
    knob: Knob | None = next((each for each in KNOBS if each.condition == name), None)
    known = (knob.above if higher else knob.below) if knob else ""
    if known:
        return known
    if any(setting.knob.condition == name for setting in settings):
        return "the suggested range comes near it, but not all the way"
    return "other steps of the pipeline hold it where it is"


def _notes(*measured: Measured) -> list[str]:
    """What is to be known beside the numbers."""
    notes = [f"left out: {reason}" for each in measured for _, reason in each.left_out]
    count = len(measured[0])
    if count < 30:
        notes.append(f"{count} field pictures: intervals are wide; 30 or more tell better")
    return notes
