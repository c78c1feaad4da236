"""Reading the plain JSON values of a pipeline: every problem is collected, each with its path, before any is raised."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from varlen.errors import PipelineError
from varlen.steps.base import CATALOGUE, Step
from varlen.steps.junction import Junction
from varlen.steps.parameters import is_span
from varlen.steps.problems import explain, nearest_step

MOST_STEPS = 200
MOST_DEPTH = 4  # of junctions inside junctions
MOST_SEED = 2**53 - 1  # what every JSON reader can hold exactly


class LabelRules(BaseModel):
    """How boxes are fitted ("corners" or "ellipse") and which objects are kept: those of which `keep_share` is left, with a shorter side
    of `keep_side_px` px.

    >>> import varlen as v
    >>> v.Pipeline([v.Rotate()], labels=v.LabelRules(keep_share=0.5)).labels.keep_side_px
    3.0
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    box_fit: Literal["corners", "ellipse"] = "corners"
    keep_share: float = Field(default=0.25, ge=0, le=1)
    keep_side_px: float = Field(default=3, ge=0, le=10_000)


class PipelineHead(BaseModel):
    """The keys of a pipeline file besides its steps."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    varlen_pipeline: Literal[1]
    name: str = Field("Untitled", min_length=1, max_length=120)
    seed: int = Field(0, ge=0, le=MOST_SEED)
    draw_per: Literal["image", "group"] = "image"
    labels: LabelRules = LabelRules()


def read_parts(data: Any, source: str = "") -> tuple[PipelineHead, tuple[Step, ...]]:
    """The head and the steps of a pipeline given as plain JSON values. Raises `PipelineError` with all problems."""
    if not isinstance(data, dict):
        raise PipelineError(["expected an object with varlen_pipeline and steps"], source)
    problems: list[str] = []
    head = None
    try:
        head = PipelineHead.model_validate({key: value for key, value in data.items() if key != "steps"})
    except ValidationError as error:
        problems += explain(error, "", sorted([*PipelineHead.model_fields, "steps"]))
    steps = _StepReader(problems).read(data.get("steps"))
    if problems or head is None:
        raise PipelineError(problems, source)
    return head, steps


class _StepReader:
    """Reads lists of steps, also those inside junctions; collects problems; ids count across all of them."""

    def __init__(self, problems: list[str]) -> None:
        self.problems = problems
        self.taken: set[str] = set()
        self.seen: set[str] = set()
        self.count = 0

    def read(self, items: Any) -> tuple[Step, ...]:
        """The steps of a pipeline."""
        self.taken = set(_given_ids(items))
        return self._list(items, "steps", 0)

    def _list(self, items: Any, place: str, depth: int) -> tuple[Step, ...]:
        if not isinstance(items, list):
            self.problems.append(f"{place}: expected a list of steps")
            return ()
        self.count += len(items)
        if self.count > MOST_STEPS:
            self.problems.append(f"{place}: {self.count} steps are more than {MOST_STEPS}")
            return ()
        steps = [self._step(item, f"{place}[{index}]", depth) for index, item in enumerate(items)]
        return tuple(step for step in steps if step is not None)

    def _step(self, item: Any, place: str, depth: int) -> Step | None:
        if not isinstance(item, dict) or not isinstance(item.get("step"), str):
            self.problems.append(f'{place}: expected an object with "step"')
            return None
        cls = CATALOGUE.get(item["step"])
        if cls is None:
            self.problems.append(f"{place}.step: there is no step {item['step']!r}{nearest_step(item['step'], CATALOGUE)}")
            return None
        item = dict(item)
        if not item.get("id"):
            item["id"] = free_id(item["step"], self.taken)
        if cls is Junction and isinstance(item.get("branches"), list):
            if depth >= MOST_DEPTH:
                self.problems.append(f"{place}: junctions inside junctions, more than {MOST_DEPTH} deep")
                return None
            item["branches"] = [self._branch(branch, f"{place}.branches[{n}]", depth + 1) for n, branch in enumerate(item["branches"])]
        try:
            step = cls.model_validate(item)
        except PipelineError as error:
            self.problems += [place + problem.removeprefix(cls.name()) for problem in error.problems]
            return None
        if step.id in self.seen:
            self.problems.append(f"{place}.id: {step.id!r} is taken by an earlier step")
        self.seen.add(step.id)
        if step.step == "normalize" and depth > 0:
            self.problems.append(f"{place}: normalize can't stand in a junction; put it at the end of the pipeline")
        return step

    def _branch(self, branch: Any, place: str, depth: int) -> Any:
        if not isinstance(branch, dict):
            return branch
        return {**branch, "steps": self._list(branch.get("steps", []), f"{place}.steps", depth)}


def upgraded(data: Any) -> tuple[Any, list[str]]:
    """A pipeline file as version 1.0 reads it, and each change in words: a single number x for a range becomes [x, x], which is what it meant."""
    changes: list[str] = []
    return _upgraded_steps(data, changes), changes


def _upgraded_steps(data: Any, changes: list[str]) -> Any:
    if isinstance(data, list):
        return [_upgraded_steps(each, changes) for each in data]
    if not isinstance(data, dict):
        return data
    cls = CATALOGUE.get(data["step"]) if isinstance(data.get("step"), str) else None
    found = {}
    for name, value in data.items():
        field = None if cls is None else cls.model_fields.get(name)
        if field is not None and is_span(field.json_schema_extra) and isinstance(value, (int, float)) and not isinstance(value, bool):
            changes.append(f"{data.get('id') or data['step']}: {name}: {value:g} → [{value:g}, {value:g}]")
            value = [value, value]
        found[name] = _upgraded_steps(value, changes) if name in ("steps", "branches") else value
    return found


def _given_ids(items: Any) -> Iterator[str]:
    """All ids in a list of steps and in the branches below it."""
    for item in items if isinstance(items, list) else ():
        if isinstance(item, dict):
            if isinstance(item.get("id"), str):
                yield item["id"]
            for branch in item["branches"] if isinstance(item.get("branches"), list) else ():
                if isinstance(branch, dict):
                    yield from _given_ids(branch.get("steps"))


def free_id(name: str, taken: set[str]) -> str:
    """The first of name, name-2, name-3 … that is not taken; it is taken from then on."""
    number, free = 1, name
    while free in taken:
        number += 1
        free = f"{name}-{number}"
    taken.add(free)
    return free
