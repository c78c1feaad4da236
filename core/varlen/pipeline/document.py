"""Pipelines: ordered steps from a `.varlen.json` file or from code, checked, and in canonical form.

The canonical form spells every default out; the digest is over it. What code builds goes the way of what a file
says, so both come to one digest.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, Self, overload

from varlen.atomic_files import write_whole
from varlen.errors import PipelineError, StepFileError
from varlen.pipeline.advice import Advice, advice_on_pipeline
from varlen.pipeline.reading import MOST_STEPS, LabelRules, PipelineHead, free_id, read_parts
from varlen.steps.base import CATALOGUE, Step
from varlen.steps.junction import Junction
from varlen.steps.own_step import import_steps, modules_of

MOST_BYTES = 1_000_000


class Pipeline:
    """Steps in their order, a seed, and the rules for labels; checked, and never changed.

    steps: step objects, or plain values as a file has them; seed: 0 … 2⁵³ − 1; draw_per: "image", or "group" for one draw for
    all images of a group; labels: how boxes are fitted and which objects are kept (`LabelRules`, or its fields by name).
    A step without an id gets its own name, a second one of the kind `name-2`. Raises `PipelineError` with every problem found.

    >>> from varlen import Flip, Pipeline, Rotate
    >>> pipeline = Pipeline([Flip(probability=0.8), Rotate(degrees=(-12, 12), edges="mirror")], seed=20)
    >>> pipeline
    Pipeline([Flip(probability=0.8), Rotate(degrees=(-12.0, 12.0), edges='mirror')], seed=20)
    >>> [step.id for step in pipeline], pipeline["rotate"].degrees, len(pipeline)
    (['flip', 'rotate'], (-12.0, 12.0), 2)
    >>> Pipeline.from_json(pipeline.to_json()) == pipeline
    True
    """

    def __init__(self, steps: Iterable[Step | Mapping[str, Any]] = (), *, seed: int = 0, name: str = "Untitled",
                 draw_per: Literal["image", "group"] = "image", labels: LabelRules | Mapping[str, Any] | None = None) -> None:  # fmt: skip
        document = {"varlen_pipeline": 1, "name": name, "seed": seed, "draw_per": draw_per, "steps": _plain_steps(steps)}
        if labels is not None:
            document["labels"] = labels.model_dump() if isinstance(labels, LabelRules) else dict(labels)
        self._set(*read_parts(document))

    def _set(self, head: PipelineHead, steps: tuple[Step, ...]) -> None:
        self.name = head.name
        self.seed = head.seed
        self.draw_per = head.draw_per
        self.labels = head.labels
        self.steps = steps
        self._head = head

    @classmethod
    def from_json(cls, data: Any, source: str = "") -> Self:
        """A pipeline from plain JSON values; `source` is named in errors. Raises `PipelineError` with all problems."""
        made = cls.__new__(cls)
        made._set(*read_parts(data, source))
        return made

    @classmethod
    def parse(cls, text: str, source: str = "") -> Self:
        """A pipeline from JSON text; `source` is named in errors. Raises `PipelineError` with all problems."""
        return cls.from_json(_plain(text, source), source)

    @classmethod
    def read(cls, path: Path | str) -> Self:
        """A pipeline from a file. Raises `PipelineError` with all its problems."""
        return cls.from_json(plain_file(Path(path)), str(path))

    def save(self, path: Path | str) -> None:
        """Write the canonical form to a file, whole or not at all."""
        write_whole(Path(path), json.dumps(self.to_json(), indent=2, ensure_ascii=False).encode() + b"\n")

    def __len__(self) -> int:
        return len(self.steps)

    def __iter__(self) -> Iterator[Step]:
        return iter(self.steps)

    @overload
    def __getitem__(self, place: int | str) -> Step: ...
    @overload
    def __getitem__(self, place: slice) -> tuple[Step, ...]: ...
    def __getitem__(self, place: int | str | slice) -> Step | tuple[Step, ...]:
        """A step by its place or its id, those in junctions too; several by a slice. Raises `KeyError` for an id that isn't there."""
        if isinstance(place, str):
            for step in self.all_steps():
                if step.id == place:
                    return step
            raise KeyError(place)
        return self.steps[place]

    def __eq__(self, other: object) -> bool:
        return self.digest == other.digest if isinstance(other, Pipeline) else NotImplemented

    def __hash__(self) -> int:
        return hash(self.digest)

    def __reduce__(self) -> tuple[Any, ...]:
        """As a file has it: the process that unpickles it must know its steps; the error names a step that it does not know."""
        return unpickled, (type(self), self.to_json(), self.outside_steps(), modules_of(self.all_steps()))

    def __repr__(self) -> str:
        usual = {"name": "Untitled", "seed": 0, "draw_per": "image", "labels": LabelRules()}
        facts = [f"{name}={getattr(self, name)!r}" for name, value in usual.items() if getattr(self, name) != value]
        given: set[str] = set()
        steps = []
        for step in self.steps:
            steps.append(step.described(with_id=step.id != free_id(step.step, given)))
            given.add(step.id)
        return f"{type(self).__name__}({', '.join(['[' + ', '.join(steps) + ']', *facts])})"

    def steps_for(self, split: str, variant: int) -> list[Step]:
        """The steps that apply to one output: `train` steps only to training variants."""
        return applicable(self.steps, split == "train" and variant > 0)

    def all_steps(self) -> list[Step]:
        """Every step, those in the branches of junctions too."""
        return list(_flattened(self.steps))

    @property
    def varies(self) -> bool:
        """Whether training variants of one image may differ from one another: some step that is switched on says so of itself."""
        return any(step.varies for step in _flattened(self.steps_for("train", 1), enabled_only=True))

    @property
    def alters_training(self) -> bool:
        """Whether a training variant may differ from the original, which goes through the steps for every split only."""
        return self.varies or self.steps_for("train", 1) != self.steps_for("train", 0)

    def advice(self) -> list[Advice]:
        """What is allowed in it but rarely intended, as far as it can be told without a dataset: each with `kind`, `step`, `says` and `why`.

        >>> from varlen import Pipeline, Rotate
        >>> [(note.kind, note.step) for note in Pipeline([Rotate(degrees=(45, 45))]).advice()]
        [('never-varies', 'rotate')]
        """
        return advice_on_pipeline(self)

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
        """Names of its steps from outside, each with the SHA-256 of its file, or of its function."""
        return {step.step: step.source_digest for step in self.all_steps() if step.source_digest}

    def with_seed(self, seed: int) -> Self:
        """The same pipeline with other random numbers."""
        return self.from_json({**self.to_json(), "seed": seed})


def plain_file(path: Path) -> Any:
    """The JSON values in a pipeline file, not yet checked. Raises `PipelineError` for what is none."""
    try:
        if path.stat().st_size > MOST_BYTES:
            raise PipelineError([f"larger than {MOST_BYTES // 1000} kB, too large for a pipeline"], str(path))
        text = path.read_text("utf-8")
    except UnicodeDecodeError:
        raise PipelineError(["not UTF-8 text"], str(path)) from None
    except OSError as error:
        raise PipelineError([error.strerror or str(error)], str(path)) from None
    return _plain(text, str(path))


def _plain(text: str, source: str) -> Any:
    try:
        return json.loads(text)
    except json.JSONDecodeError as error:
        raise PipelineError([f"not JSON at line {error.lineno}, column {error.colno}: {error.msg}"], source) from None
    except ValueError as error:
        raise PipelineError([f"not JSON: {str(error)[:120]}"], source) from None
    except RecursionError:
        raise PipelineError(["nested too deeply for a pipeline"], source) from None


def unpickled(cls: type[Pipeline], document: dict[str, Any], outside: dict[str, str], modules: Sequence[str]) -> Pipeline:
    """A pipeline that another process pickled. Raises `StepFileError` for a step of one's own that is not known here."""
    import_steps(modules)
    for name in outside:
        if name not in CATALOGUE:
            raise StepFileError(f"step {name}: it was defined in a notebook or script, which another process can't import; put it into a module or "
                                "into a file named in VARLEN_STEPS, or fork the processes")  # fmt: skip
    return cls.from_json(document)


def applicable(steps: Sequence[Step], augmented: bool) -> list[Step]:
    """Those of `steps` that are enabled and apply to a training variant (`augmented`) or for every image."""
    return [step for step in steps if step.enabled and (augmented or step.scope == "every")]


def _flattened(steps: Sequence[Step], enabled_only: bool = False) -> Iterator[Step]:
    """All steps, those in branches after their junction; enabled_only: without what is switched off, and what never happens."""
    for step in steps:
        if enabled_only and not (step.enabled and step.probability > 0):
            continue
        yield step
        if isinstance(step, Junction):
            for branch in step.branches:
                yield from _flattened(branch.steps, enabled_only)


def _plain_steps(steps: Iterable[Step | Mapping[str, Any]]) -> list[Any]:
    """Steps as a file has them. Raises `PipelineError` for what is neither a step nor plain values."""
    if isinstance(steps, (Step, Mapping)) or not isinstance(steps, Iterable):
        raise PipelineError(["steps: expected a list of steps, such as Pipeline([Flip(), Rotate()])"])
    found: list[Any] = []
    for place, step in enumerate(steps):
        if isinstance(step, type) and issubclass(step, Step):
            raise PipelineError([f"steps[{place}]: {step.__name__} is the class; write {step.__name__}()"])
        if not isinstance(step, (Step, Mapping)):
            raise PipelineError([f"steps[{place}]: expected a step, such as Rotate(degrees=(-12, 12)), not {type(step).__name__}"])
        found.append(step.model_dump(mode="json") if isinstance(step, Step) else dict(step))
    return found


def read(path: Path | str) -> Pipeline:
    """Read a pipeline file. Raises `PipelineError` with all its problems."""
    return Pipeline.read(path)


def parse(text: str, source: str = "") -> Pipeline:
    """Read a pipeline from JSON text; `source` is named in errors."""
    return Pipeline.parse(text, source)


def from_json(data: Any, source: str = "") -> Pipeline:
    """Check a pipeline given as plain JSON values."""
    return Pipeline.from_json(data, source)


def document_schema() -> dict[str, Any]:
    """The JSON Schema of pipeline files, for editors that check while one types."""
    head = PipelineHead.model_json_schema(ref_template="#/$defs/{model}")
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


Kind = Literal["added", "removed", "moved", "changed", "pipeline"]


@dataclass(slots=True)
class Difference:
    """One step that differs, or the pipeline's head. lines: what changed of it, one value a line."""

    kind: Kind
    step: str
    name: str
    lines: list[str] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[Difference]:
    """From one pipeline to another, both in canonical form; steps are known by their ids."""
    found: list[Difference] = []
    head = [_said(name, before.get(name), after.get(name)) for name in ("name", "seed", "draw_per") if before.get(name) != after.get(name)]
    rules, new_rules = before.get("labels", {}), after.get("labels", {})
    head += [_said(f"labels.{name}", rules.get(name), new_rules.get(name)) for name in new_rules if rules.get(name) != new_rules.get(name)]
    if head:
        found.append(Difference("pipeline", "", "pipeline", head))
    old, new = ({step["id"]: step for step in document["steps"]} for document in (before, after))
    stayed = [step for step in old if step in new]
    order = [step for step in new if step in old]
    for step in old:
        if step not in new:
            found.append(Difference("removed", step, old[step]["step"]))
    for step, values in new.items():
        if step not in old:
            found.append(
                Difference("added", step, values["step"], [f"{name} {_short(value)}" for name, value in values.items() if name not in _SAID])
            )
            continue
        lines = [_said(name, old[step].get(name), value) for name, value in values.items() if old[step].get(name) != value]
        if lines:
            found.append(Difference("changed", step, values["step"], lines))
    moved = [step for step, other in zip(stayed, order, strict=True) if step != other]
    if moved:
        found.append(Difference("moved", "", "order", [" → ".join(order)]))
    return found


_SAID = ("id", "step", "enabled", "scope", "within")


def _said(name: str, before: Any, after: Any) -> str:
    return f"{name} {_short(before)} → {_short(after)}"


def _short(value: Any) -> str:
    if isinstance(value, list):
        if value and isinstance(value[0], dict):
            return f"{len(value)} branches"
        return f"[{', '.join(map(_short, value))}]"
    if isinstance(value, float):
        return f"{value:g}"
    return "none" if value is None else str(value)
