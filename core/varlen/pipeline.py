"""Pipelines: ordered steps read from a `.varlen.json` file, checked, and in canonical form.

Reading collects every problem before refusing, each with its path in the file, so that a
file is mended in one go. The canonical form spells every default out; the digest is over it.
"""

from __future__ import annotations

import difflib
import hashlib
import json
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from varlen.errors import PipelineError
from varlen.steps import CATALOGUE
from varlen.steps.base import Step

FORMAT = 1
MOST_BYTES = 1_000_000
MOST_STEPS = 200
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
    draw_per: Literal["image"] = "image"
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
        augmented = split == "train" and variant > 0
        return [step for step in self.steps if step.enabled and (augmented or step.scope == "every")]

    def to_json(self) -> dict[str, Any]:
        """The canonical form, every default spelled out."""
        return {**self._head.model_dump(mode="json"), "steps": [step.model_dump(mode="json") for step in self.steps]}

    @property
    def digest(self) -> str:
        """`sha256:…` over the canonical form."""
        text = json.dumps(self.to_json(), sort_keys=True, separators=(",", ":"), ensure_ascii=True)
        return "sha256:" + hashlib.sha256(text.encode()).hexdigest()

    def with_seed(self, seed: int) -> Pipeline:
        """The same pipeline with other random numbers."""
        return from_json({**self.to_json(), "seed": seed})


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
    except json.JSONDecodeError as error:
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
    steps = _steps(data.get("steps"), problems)
    if problems or head is None:
        raise PipelineError(problems, source)
    return Pipeline(head, steps)


def _steps(items: Any, problems: list[str]) -> tuple[Step, ...]:
    if not isinstance(items, list):
        problems.append("steps: expected a list of steps")
        return ()
    if len(items) > MOST_STEPS:
        problems.append(f"steps: {len(items)} steps are more than {MOST_STEPS}")
        return ()
    steps: list[Step] = []
    taken = {item["id"] for item in items if isinstance(item, dict) and isinstance(item.get("id"), str)}
    seen: set[str] = set()
    for index, item in enumerate(items):
        place = f"steps[{index}]"
        if not isinstance(item, dict) or not isinstance(item.get("step"), str):
            problems.append(f'{place}: expected an object with "step"')
            continue
        cls = CATALOGUE.get(item["step"])
        if cls is None:
            problems.append(f"{place}.step: there is no step {item['step']!r}{_nearest(item['step'], list(CATALOGUE))}")
            continue
        item = dict(item)
        if not item.get("id"):
            item["id"] = _free_id(item["step"], taken)
        try:
            step = cls.model_validate(item)
        except ValidationError as error:
            problems += _explain(error, place, list(cls.model_fields))
            continue
        if step.id in seen:
            problems.append(f"{place}.id: {step.id!r} is taken by an earlier step")
        seen.add(step.id)
        steps.append(step)
    return tuple(steps)


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
                what = f"unknown key{_nearest(str(item['loc'][-1]), known)}"
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
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **head,
        "title": "Varlen pipeline",
        "properties": {**head["properties"], "steps": steps},
        "required": ["varlen_pipeline", "steps"],
        "$defs": definitions,
    }
