"""Pipelines: ordered steps read from a `.varlen.json` file, checked, and in canonical form.

Reading collects every problem before refusing, each with its path in the file, so that a
file is mended in one go. The canonical form spells every default out; the digest is over it.
"""

from __future__ import annotations

import difflib
import hashlib
import json
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from varlen.errors import PipelineError
from varlen.steps import CATALOGUE, FROM_FILES
from varlen.steps.base import Step
from varlen.steps.junction import Junction

MOST_BYTES = 1_000_000
MOST_STEPS = 200
MOST_DEPTH = 4  # of junctions inside junctions
MOST_SEED = 2**53 - 1  # what every JSON reader can hold exactly


class LabelRules(BaseModel):
    """How boxes are fitted and which objects are kept."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    box_fit: Literal["corners", "ellipse"] = "corners"
    keep_share: float = Field(default=0.25, ge=0, le=1)
    keep_side_px: float = Field(default=3, ge=0, le=10_000)


class _Head(BaseModel):
    """The keys of a pipeline file besides its steps."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    varlen_pipeline: Literal[1]
    name: str = Field("Untitled", min_length=1, max_length=120)
    seed: int = Field(0, ge=0, le=MOST_SEED)
    draw_per: Literal["image", "group"] = "image"
    labels: LabelRules = LabelRules()


class Pipeline:
    """A checked pipeline. Make one with `read`, `parse` or `from_json`; it never changes."""

    def __init__(self, head: _Head, steps: tuple[Step, ...]) -> None:
        self.name = head.name
        self.seed = head.seed
        self.draw_per = head.draw_per
        self.labels = head.labels
        self.steps = steps
        self._head = head

    def steps_for(self, split: str, variant: int) -> list[Step]:
        """The steps that apply to one output: `train` steps only to training variants."""
        return applicable(self.steps, split == "train" and variant > 0)

    def all_steps(self) -> list[Step]:
        """Every step, those in the branches of junctions too."""
        return list(_flattened(self.steps))

    @property
    def varies(self) -> bool:
        """Whether training variants differ from the original or from one another: some step is for them alone, or leaves something to chance."""
        return any(step.enabled and (step.scope == "train" or step.probability < 1 or _leaves_open(step)) for step in self.all_steps())

    def to_json(self) -> dict[str, Any]:
        """The canonical form, every default spelled out."""
        return {**self._head.model_dump(mode="json"), "steps": [step.model_dump(mode="json") for step in self.steps]}

    @cached_property
    def digest(self) -> str:
        """`sha256:…` over the canonical form, and over the files of the steps from outside among its steps."""
        form = self.to_json()
        if outside := self.outside_steps():
            form["outside_steps"] = outside
        text = json.dumps(form, sort_keys=True, separators=(",", ":"), ensure_ascii=True)
        return "sha256:" + hashlib.sha256(text.encode()).hexdigest()

    def outside_steps(self) -> dict[str, str]:
        """Names of its steps from outside, each with the SHA-256 of the file it comes from."""
        return {step.step: FROM_FILES[step.step] for step in self.all_steps() if step.step in FROM_FILES}

    def with_seed(self, seed: int) -> Pipeline:
        """The same pipeline with other random numbers."""
        return from_json({**self.to_json(), "seed": seed})


def applicable(steps: Sequence[Step], augmented: bool) -> list[Step]:
    """Those of `steps` that are enabled and apply to a training variant (`augmented`) or for every image."""
    return [step for step in steps if step.enabled and (augmented or step.scope == "every")]


def _leaves_open(step: Step) -> bool:
    """Whether a parameter is a range, or the step draws in another way."""
    spans = [value for value in step.__dict__.values() if isinstance(value, tuple) and len(value) == 2 and value[0] != value[1]]
    return any(isinstance(end, (int, float)) for span in spans for end in span) or step.step not in ("resize", "pad", "normalize", "flip", "equalize")


def _flattened(steps: Sequence[Step]) -> Iterator[Step]:
    for step in steps:
        yield step
        if isinstance(step, Junction):
            for branch in step.branches:
                yield from _flattened(branch.steps)


def read(path: Path | str) -> Pipeline:
    """Read a pipeline file. Raises `PipelineError` with all its problems."""
    path = Path(path)
    try:
        if path.stat().st_size > MOST_BYTES:
            raise PipelineError([f"larger than {MOST_BYTES // 1000} kB, too large for a pipeline"], str(path))
        text = path.read_text("utf-8")
    except UnicodeDecodeError:
        raise PipelineError(["not UTF-8 text"], str(path)) from None
    except OSError as error:
        raise PipelineError([error.strerror or str(error)], str(path)) from None
    return parse(text, str(path))


def parse(text: str, source: str = "") -> Pipeline:
    """Read a pipeline from JSON text; `source` is named in errors."""
    try:
        data = json.loads(text)
    except ValueError as error:
        if not isinstance(error, json.JSONDecodeError):
            raise PipelineError([f"not JSON: {str(error)[:120]}"], source) from None
        raise PipelineError([f"not JSON at line {error.lineno}, column {error.colno}: {error.msg}"], source) from None
    except RecursionError:
        raise PipelineError(["nested too deeply for a pipeline"], source) from None
    return from_json(data, source)


def from_json(data: Any, source: str = "") -> Pipeline:
    """Check a pipeline given as plain JSON values."""
    if not isinstance(data, dict):
        raise PipelineError(["expected an object with varlen_pipeline and steps"], source)
    problems: list[str] = []
    head = None
    try:
        head = _Head.model_validate({key: value for key, value in data.items() if key != "steps"})
    except ValidationError as error:
        problems += _explain(error, "", sorted([*_Head.model_fields, "steps"]))
    steps = _StepReader(problems).read(data.get("steps"))
    if problems or head is None:
        raise PipelineError(problems, source)
    return Pipeline(head, steps)


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
            self.problems.append(f"{place}.step: there is no step {item['step']!r}{_nearest(item['step'], list(CATALOGUE))}")
            return None
        item = dict(item)
        if not item.get("id"):
            item["id"] = _free_id(item["step"], self.taken)
        if cls is Junction and isinstance(item.get("branches"), list):
            if depth >= MOST_DEPTH:
                self.problems.append(f"{place}: junctions inside junctions, more than {MOST_DEPTH} deep")
                return None
            item["branches"] = [self._branch(branch, f"{place}.branches[{n}]", depth + 1) for n, branch in enumerate(item["branches"])]
        try:
            step = cls.model_validate(item)
        except ValidationError as error:
            self.problems += _explain(error, place, list(cls.model_fields))
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


def _given_ids(items: Any) -> Iterator[str]:
    """All ids in a list of steps and in the branches below it."""
    for item in items if isinstance(items, list) else ():
        if isinstance(item, dict):
            if isinstance(item.get("id"), str):
                yield item["id"]
            for branch in item["branches"] if isinstance(item.get("branches"), list) else ():
                if isinstance(branch, dict):
                    yield from _given_ids(branch.get("steps"))


def _free_id(name: str, taken: set[str]) -> str:
    number, free = 1, name
    while free in taken:
        number += 1
        free = f"{name}_{number}"
    taken.add(free)
    return free


def _nearest(word: str, known: list[str]) -> str:
    close = difflib.get_close_matches(word, known, 1)
    return f"; did you mean {close[0]!r}?" if close else f"; known are {', '.join(known)}"


def _explain(error: ValidationError, place: str, known: list[str]) -> list[str]:
    """Pydantic's findings in our words, each with its path in the file."""
    problems = []
    for item in error.errors(include_url=False):
        path = place
        for part in item["loc"]:
            path += f"[{part}]" if isinstance(part, int) else f".{part}" if path else str(part)
        match item["type"]:
            case "extra_forbidden":
                inside = ["weight", "steps"] if "branches" in item["loc"][:-1] else known
                what = f"unknown key{_nearest(str(item['loc'][-1]), inside)}"
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


def document_schema() -> dict[str, Any]:
    """The JSON Schema of pipeline files, for editors that check while one types."""
    head = _Head.model_json_schema(ref_template="#/$defs/{model}")
    definitions = head.pop("$defs", {})
    for name, cls in CATALOGUE.items():
        step = cls.model_json_schema()
        definitions.update(step.pop("$defs", {}))
        definitions[name] = {**step, "required": ["step"]}
    steps = {"type": "array", "maxItems": MOST_STEPS, "items": {"oneOf": [{"$ref": f"#/$defs/{name}"} for name in CATALOGUE]}}
    definitions.pop("Step", None)
    definitions["Branch"]["properties"]["steps"] = steps
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **head,
        "title": "Varlen pipeline",
        "properties": {**head["properties"], "steps": steps},
        "required": ["varlen_pipeline", "steps"],
        "$defs": definitions,
    }
