"""Pipeline files: every problem named with its place, one canonical form."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.errors import PipelineError
from varlen.pipeline.document import document_schema, from_json, parse, read
from varlen.pipeline.reading import MOST_DEPTH, MOST_STEPS
from varlen.steps import BUILT_IN, CATALOGUE, describe

from tests.conftest import PROJECT

GOOD = {"varlen_pipeline": 1, "name": "Lamp drift", "seed": 20, "steps": [{"id": "tilt", "step": "rotate", "degrees": [-12, 12]}]}


def problems(document: object) -> list[str]:
    with pytest.raises(PipelineError) as caught:
        from_json(document)
    return caught.value.problems


def test_all_problems_at_once_each_with_its_place() -> None:
    found = problems(
        {
            "varlen_pipeline": 1,
            "sed": 20,
            "labels": {"keep_share": 3},
            "steps": [
                {"step": "rotate", "degrees": [-12, 400], "probability": 2},
                {"step": "rotat"},
                {"step": "rotate", "degree": 3},
                {"step": "crop", "mode": "corner"},
                {"step": "blur", "sigma_px": [2, 1]},
                {"id": "same", "step": "flip"},
                {"id": "same", "step": "flip"},
                7,
            ],
        }
    )
    expected = [
        "labels.keep_share: ", "sed: unknown key; did you mean 'seed'?",
        "steps[0].degrees: 400 is outside -180 … 180 degrees", "steps[0].probability: 2 is outside 0 … 1",
        "steps[1].step: there is no step 'rotat'; did you mean 'rotate'?",
        "steps[2].degree: unknown key; did you mean 'degrees'?",
        "steps[3].mode: \"corner\" is not one of 'window', 'centre', 'random' or 'around_object'",
        "steps[4].sigma_px: the range runs backwards: 2 is above 1",
        "steps[6].id: 'same' is taken by an earlier step", 'steps[7]: expected an object with "step"',
    ]  # fmt: skip
    assert len(found) == len(expected)
    for line in expected:
        assert any(problem.startswith(line) for problem in found), line


@pytest.mark.parametrize(
    "document", [None, 7, [], {}, {"varlen_pipeline": 2, "steps": []}, {"varlen_pipeline": 1}, {"varlen_pipeline": 1, "steps": {}}]
)
def test_what_is_no_pipeline_is_refused(document: object) -> None:
    assert problems(document)


@pytest.mark.parametrize("name", sorted(CATALOGUE))
def test_every_limit_is_kept(name: str) -> None:
    for parameter in describe(CATALOGUE[name])["parameters"]:
        for value in (parameter.get("low"), parameter.get("high")):
            if value is None:
                continue
            bad = value - 1 if value == parameter["low"] else value + 1
            count = {"span": 2, "color": 3, "levels": 3}.get(parameter["control"])
            wrap = (lambda v, count=count: [v] * count) if count else (lambda v: v)
            # The one limit that depends on another parameter.
            wide = {"strength_fraction": {"spacing_fraction": 0.25}, "spacing_fraction": {"strength_fraction": [0, 0]}}.get(parameter["name"], {})
            from_json({"varlen_pipeline": 1, "steps": [{"step": name, **wide, parameter["name"]: wrap(value)}]})
            assert problems({"varlen_pipeline": 1, "steps": [{"step": name, parameter["name"]: wrap(bad)}]})
        if parameter["control"] == "span":
            assert problems({"varlen_pipeline": 1, "steps": [{"step": name, parameter["name"]: [float("nan")] * 2}]})


def test_the_canonical_form_spells_out_defaults_and_reads_back() -> None:
    pipeline = from_json(GOOD)
    form = pipeline.to_json()
    assert form["steps"][0]["edges"] == "solid"
    assert from_json(json.loads(json.dumps(form))).digest == pipeline.digest
    assert from_json({**GOOD, "steps": [{"id": "tilt", "step": "rotate", "degrees": [-12.0, 12]}]}).digest == pipeline.digest
    assert pipeline.with_seed(21).digest != pipeline.digest


def test_a_range_of_one_number_is_that_number() -> None:
    step = from_json({"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": [5, 5]}]}).to_json()["steps"][0]
    assert step["degrees"] == [5, 5]
    assert step["id"] == "rotate"


def test_files_that_can_t_be_read_say_so(tmp_path: Path) -> None:
    for name, data, message in (
        ("a.json", b"{", "not JSON at line 1, column 2"),
        ("b.json", b"\xff\xfe", "not UTF-8"),
        ("c.json", b"[" * 100_000, "nested too deeply"),
        ("d.json", b" " * 1_100_000, "too large"),
    ):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(PipelineError, match=message):
            read(tmp_path / name)
    with pytest.raises(PipelineError, match="No such file"):
        read(tmp_path / "missing.json")


@given(
    st.recursive(
        st.none() | st.booleans() | st.floats() | st.text(), lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner), max_leaves=20
    )
)
def test_nonsense_never_crashes(value: object) -> None:
    for document in (value, {"varlen_pipeline": 1, "steps": value}, {"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": value}]}):
        try:
            parse(json.dumps(document))
        except PipelineError:
            continue


def test_the_reference_pages_are_what_the_code_says() -> None:
    project = PROJECT
    sys.path.insert(0, str(project / "scripts"))
    import step_docs

    assert (project / "docs" / "steps.md").read_text() == step_docs.index(), "run `make step-docs`"
    for cls in BUILT_IN:
        assert (project / "docs" / "steps" / f"{cls.name()}.md").read_text() == step_docs.page(cls), "run `make step-docs`"
        assert not step_docs.settings_shown(cls) or (project / "docs" / "steps" / f"{cls.name()}.jpg").stat().st_size > 5000
    assert (project / "docs" / "pipeline.schema.json").read_text() == step_docs.schema(), "run `make step-docs`"
    assert (project / "docs" / "reading.schema.json").read_text() == step_docs.reading_schema(), "run `make step-docs`"
    assert step_docs.CATALOGUE_FILE.read_text() == step_docs.catalogue(), "run `make step-docs`"


def nested(depth: int, inner: dict) -> dict:
    """A pipeline with `inner` in a junction in a junction … `depth` of them."""
    step = inner
    for _ in range(depth):
        step = {"step": "junction", "branches": [{"weight": 1, "steps": [step]}]}
    return {"varlen_pipeline": 1, "steps": [step]}


def test_junctions_stand_in_one_another_up_to_a_depth() -> None:
    deepest = from_json(nested(MOST_DEPTH, {"step": "flip"}))
    assert [step.step for step in deepest.all_steps()] == ["junction"] * MOST_DEPTH + ["flip"]
    assert [step.id for step in deepest.all_steps()] == ["junction", *(f"junction-{n}" for n in range(2, MOST_DEPTH + 1)), "flip"]
    place = "steps[0]" + ".branches[0].steps[0]" * MOST_DEPTH
    assert problems(nested(MOST_DEPTH + 1, {"step": "flip"}))[0] == f"{place}: junctions inside junctions, more than {MOST_DEPTH} deep"


def test_steps_in_branches_count_and_share_their_ids_with_all() -> None:
    half = [{"step": "flip"}] * (MOST_STEPS // 2)
    full = {"varlen_pipeline": 1, "steps": [*half[1:], {"step": "junction", "branches": [{"weight": 1, "steps": half}]}]}
    assert len(from_json(full).all_steps()) == MOST_STEPS
    full["steps"] = [*half, *full["steps"][-1:]]
    assert problems(full)[0] == f"steps[{len(half)}].branches[0].steps: {MOST_STEPS + 1} steps are more than {MOST_STEPS}"
    twice = nested(1, {"step": "flip", "id": "tilt"})
    twice["steps"].append({"step": "rotate", "id": "tilt"})
    assert problems(twice) == ["steps[1].id: 'tilt' is taken by an earlier step"]
    later = nested(1, {"step": "flip"})
    later["steps"].append({"step": "rotate", "id": "flip"})
    assert [step.id for step in from_json(later).all_steps()] == ["junction", "flip-2", "flip"]  # given names go first


def test_normalize_belongs_at_the_end_of_the_pipeline() -> None:
    assert problems(nested(1, {"step": "normalize"})) == [
        "steps[0].branches[0].steps[0]: normalize can't stand in a junction; put it at the end of the pipeline"
    ]


@pytest.mark.parametrize(
    ("document", "problem"),
    [
        ({"varlen_pipeline": 1, "steps": [{"step": "junction", "branches": [7]}]}, "steps[0].branches[0]: "),
        ({"varlen_pipeline": 1, "steps": [{"step": "junction", "branches": [{"weihgt": 1, "steps": []}]}]},
         "steps[0].branches[0].weihgt: unknown key; did you mean 'weight'?"),
        ({"varlen_pipeline": 1, "steps": [{"step": "junction", "branches": [{"weight": 1, "steps": [{"step": "flipp"}]}]}]},
         "steps[0].branches[0].steps[0].step: there is no step 'flipp'; did you mean 'flip'?"),
        ({"varlen_pipeline": 1, "steps": [{"step": "xyz"}]}, "steps[0].step: there is no step 'xyz'; known are "),
        ({"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": [1, 2, 3]}]}, "steps[0].degrees: [1, 2, 3] is not a range [low, high]"),
        ({"steps": []}, "varlen_pipeline: is missing"),
        ({"varlen_pipeline": 1, "steps": [], "seed": "x" * 200}, "seed: "),
    ],
)  # fmt: skip
def test_a_problem_has_its_path(document: dict, problem: str) -> None:
    found = problems(document)
    assert found[0].startswith(problem)
    assert len(found[0]) < 600


def test_who_takes_which_steps() -> None:
    steps = [{"step": "rotate"}, {"step": "resize"}, {"step": "flip", "scope": "every"}, {"step": "pad", "enabled": False}]
    pipeline = from_json({"varlen_pipeline": 1, "steps": steps})

    def names(split: str, variant: int) -> list[str]:
        return [step.step for step in pipeline.steps_for(split, variant)]

    assert names("train", 1) == ["rotate", "resize", "flip"]
    assert names("train", 0) == names("test", 3) == names("validation", 0) == ["resize", "flip"]


def test_a_digest_is_of_what_is_meant_and_not_of_how_it_is_written() -> None:
    spelled_out = from_json(from_json(GOOD).to_json())
    assert spelled_out.digest == from_json(GOOD).digest
    assert from_json({**GOOD, "seed": 21}).digest == from_json(GOOD).with_seed(21).digest != from_json(GOOD).digest
    assert from_json({**GOOD, "steps": [{"id": "tilt", "step": "rotate", "degrees": [-12, 12.5]}]}).digest != from_json(GOOD).digest


def test_the_schema_has_all_steps_and_what_they_are_made_of() -> None:
    schema = document_schema()
    assert set(CATALOGUE) <= set(schema["$defs"])
    assert schema["required"] == ["varlen_pipeline", "steps"]
    wanted = {each["$ref"] for each in schema["properties"]["steps"]["items"]["oneOf"]}
    assert wanted == {f"#/$defs/{name}" for name in CATALOGUE}
    text = json.dumps(schema)
    for reference in set(re.findall(r'"\$ref": "#/\$defs/([^"]+)"', text)):
        assert reference in schema["$defs"], reference
    assert schema["$defs"]["Branch"]["properties"]["steps"] == schema["properties"]["steps"]
