"""Whether a step varies is what its draws show; and no rule about a single step stands outside its class without a reason."""

from __future__ import annotations

import ast
import json
import re
from pathlib import Path
from typing import Any, get_args

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.draws import PartnerRing, Stream
from varlen.editions.export_spec import ExportSpec
from varlen.editions.trials import order_for
from varlen.errors import PipelineError
from varlen.model.geometry import Size
from varlen.pipeline.document import Pipeline
from varlen.steps import CATALOGUE
from varlen.steps.base import DrawContext, PlacedObject, Step
from varlen.steps.parameters import is_span

from tests.conftest import PROJECT, make_pipeline

RING = PartnerRing.alone([f"images/{n}.jpg" for n in range(9)])
OBJECTS = [PlacedObject("images/0.jpg", f"{n}", (10.0 + n, 10.0, 60.0 + 9 * n, 70.0)) for n in range(3)]
CONTEXT = DrawContext(Size(640, 480), "images/0.jpg", lambda: RING, lambda: OBJECTS)
VARIANTS = 50


def values_for(name: str, facts: Any, default: Any) -> st.SearchStrategy[Any]:
    """Values of a parameter: its default, ranges of one value and wider ones, every word."""
    extra = facts.json_schema_extra if isinstance(facts.json_schema_extra, dict) else {}
    if is_span(extra):
        low, high = (extra["slider"] or [extra["low"], extra["high"]])[:2]
        whole = bool(extra.get("whole"))
        ends = st.tuples(*[st.integers(int(low), int(high)) if whole else st.integers(0, 8).map(lambda n: round(low + (high - low) * n / 8, 4))] * 2)
        return st.one_of(st.just(default), ends.map(sorted), ends.map(lambda pair: [pair[0], pair[0]]))
    if words := [word for word in get_args(facts.annotation) if isinstance(word, (str, int))]:
        return st.sampled_from(words)
    return st.just(default)


@st.composite
def steps(draw: st.DrawFn, name: str) -> Step | None:
    cls = CATALOGUE[name]
    given_values = {}
    for parameter in cls.parameters():
        if parameter in ("id", "enabled", "scope", "branches"):
            continue
        field = cls.model_fields[parameter]
        if parameter == "probability":
            given_values[parameter] = draw(st.sampled_from([0.0, 0.3, 1.0, 1.0]))
        elif parameter == "turns":
            given_values[parameter] = draw(st.lists(st.sampled_from([1, 2, 3]), min_size=1, max_size=3))
        else:
            given_values[parameter] = draw(values_for(parameter, field, field.default))
    if name == "junction":
        given_values["branches"] = [{"weight": 1, "steps": []}] * draw(st.integers(1, 3))
    try:
        return cls(**given_values)
    except PipelineError:
        return None  # values that exclude one another


@pytest.mark.parametrize("name", sorted(CATALOGUE))
@settings(max_examples=25)
@given(data=st.data())
def test_a_step_varies_where_its_variants_differ(name: str, data: st.DataObject) -> None:
    step = data.draw(steps(name))
    if step is None:
        return
    done = set()
    for variant in range(1, VARIANTS + 1):
        stream = Stream(7, "images/0.jpg", variant, step.step)
        happens = stream.unit() < step.probability
        done.add(json.dumps(step.draw(stream, CONTEXT), sort_keys=True) if happens else "")
    assert step.varies == (len(done) > 1), step


def test_of_a_pipeline() -> None:
    once, either = {"step": "grayscale"}, {"step": "flip", "direction": "either", "scope": "every"}
    assert not make_pipeline(once).varies
    assert make_pipeline(once).alters_training
    assert make_pipeline(either).varies
    assert not make_pipeline({**either, "enabled": False}).varies
    inside = {"step": "junction", "branches": [{"weight": 1, "steps": [{"step": "blur"}]}]}
    assert make_pipeline(inside).varies
    assert not make_pipeline({**inside, "probability": 0}).varies
    spec = ExportSpec(variants=3)
    assert order_for(make_pipeline(either), spec) == spec
    assert [(each.variants, each.originals) for each in (order_for(make_pipeline(once), spec), order_for(make_pipeline(), spec))] == [
        (1, True),
        (0, True),
    ]


@pytest.mark.parametrize(
    ("step", "expected"),
    [
        ({"step": "rotate", "degrees": 45}, "degrees: write (-45, 45) for up to 45 either way, (45, 45) for exactly 45"),
        ({"step": "blur", "sigma_px": 1.5}, "sigma_px: write (0, 1.5) for up to 1.5, (1.5, 1.5) for exactly 1.5"),
        ({"step": "scale", "factor": 1.25}, "factor: write (0.8, 1.25) for up to 1.25 × either way, (1.25, 1.25) for exactly 1.25"),
        ({"step": "compress", "quality": 40}, "quality: write a range (low, high) such as (40, 90), or (40, 40) for exactly 40"),
    ],
)
def test_a_range_is_a_pair(step: dict[str, Any], expected: str) -> None:
    """Each of the spellings in the message is taken as it says."""
    with pytest.raises(PipelineError) as caught:
        make_pipeline(step)
    assert caught.value.problems == [f"steps[0].{expected}"]
    name = next(key for key in step if key != "step")
    for low, high in re.findall(r"\((-?[\d.]+), (-?[\d.]+)\)", expected):
        assert getattr(make_pipeline({**step, name: [float(low), float(high)]})[0], name) == (float(low), float(high))
    cls = CATALOGUE[step["step"]]
    with pytest.raises(PipelineError, match=name):
        cls(**{key: value for key, value in step.items() if key != "step"})


def test_a_step_that_never_varies_is_told_of() -> None:
    assert [(note.kind, note.step) for note in make_pipeline({"step": "rotate", "degrees": [45, 45]}, {"step": "blur"}).advice()] == [
        ("never-varies", "rotate")
    ]
    assert Pipeline().advice() == []


#: Where a single step is named outside `steps/`, and why.
NAMED_ELSEWHERE = {
    "core/varlen/pipeline/document.py": "an example in a docstring; branches are found inside junctions",
    "core/varlen/pipeline/reading.py": "only a junction holds steps; where normalize may stand is a rule about the pipeline",
    "core/varlen/pipeline/advice.py": "advice on order compares steps with one another, which neither of them can know",
    "core/varlen/pipeline/starting_points.py": "whole pipelines to begin with",
    "core/varlen/demo/write.py": "the demo's pipelines",
    "core/varlen/api.py": "the public names",
    "core/varlen/forecasts/advice.py": "advice on blur against the sizes of a dataset's objects",
    "core/varlen/render/planner.py": "a junction's branch is planned in its place",
    "core/varlen/render/normalization.py": "the one step that works on arrays alone",
    "core/varlen/arrays/one_picture.py": "says of whole kinds of steps, a junction aside, that they need partners",
    "core/varlen/evidence/amounts.py": "which condition is met by which parameter of which step",
    "core/varlen/evidence/suggestion.py": "pipelines that are put together to meet a field",
    "core/varlen/evidence/measuring.py": "the quality that a variant was compressed with is part of what is measured",
    "core/varlen/evidence/conditions.py": "the conditions that a probe is judged under",
    "core/varlen/evidence/probe.py": "what every pipeline of a probe needs for the network's input",
    "web/src/words/steps.ts": "what a stop on the rail says in a line, for the steps whose ranges alone do not tell",
    "web/src/state/draft.ts": "where a new step goes: before the last resize",
    "web/src/bench/StepPanel.tsx": "a junction has no strip of its own",
    "web/src/bench/Rail.tsx": "a junction is drawn as a split line",
    "web/src/bench/controls/Control.tsx": "what may stand in a junction's branch",
    "web/src/bench/Bench.tsx": "the step that is open at first",
}


def named_steps(path: Path) -> set[str]:
    """Steps that a file names: as a literal beside the word step, or by importing their class."""
    text = path.read_text("utf-8")
    if path.suffix in (".ts", ".tsx"):
        found = re.findall(r"""(?:step [!=]== |case |\[|, )"(\w+)\"""", text) if "step" in text else []
        return {name for name in found if name in CATALOGUE}
    names = {cls.__name__ for cls in CATALOGUE.values()}
    found = set()
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("varlen.steps"):
            found |= {alias.name for alias in node.names} & names
        if isinstance(node, ast.Compare) and "step" in ast.unparse(node.left):
            found |= {each.value for each in ast.walk(node) if isinstance(each, ast.Constant) and each.value in CATALOGUE}
        if isinstance(node, ast.Dict):
            pairs = [(key.value, value.value) for key, value in zip(node.keys, node.values, strict=True)
                     if isinstance(key, ast.Constant) and isinstance(value, ast.Constant)]  # fmt: skip
            found |= {value for key, value in pairs if key == "step" and value in CATALOGUE}
        if isinstance(node, (ast.Tuple, ast.List, ast.Set)):
            words = [each.value for each in node.elts if isinstance(each, ast.Constant) and each.value in CATALOGUE]
            found |= set(words) if len(words) > 2 else set()
    return found


def test_no_rule_about_a_single_step_stands_outside_its_class() -> None:
    files = [*PROJECT.glob("core/varlen/**/*.py"), *PROJECT.glob("server/varlen_server/**/*.py"), *PROJECT.glob("web/src/**/*.ts*")]
    places = {path.relative_to(PROJECT).as_posix(): path for path in files if "varlen/steps/" not in path.as_posix() and ".gen." not in path.name}
    naming = {name for name, path in places.items() if named_steps(path)}
    assert naming - NAMED_ELSEWHERE.keys() == set(), "say it by a property of the step, or add the file with its reason"
    assert NAMED_ELSEWHERE.keys() - naming == set(), "nothing is named there any more"
