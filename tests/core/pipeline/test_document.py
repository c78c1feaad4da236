"""Pipeline files: every problem named with its place, one canonical form."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.errors import PipelineError
from varlen.pipeline.document import from_json, parse, read
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
            wide = {"strength_fraction": {"spacing_fraction": 0.25}, "spacing_fraction": {"strength_fraction": 0}}.get(parameter["name"], {})
            from_json({"varlen_pipeline": 1, "steps": [{"step": name, **wide, parameter["name"]: wrap(value)}]})
            assert problems({"varlen_pipeline": 1, "steps": [{"step": name, parameter["name"]: wrap(bad)}]})
        if parameter["control"] == "span":
            assert problems({"varlen_pipeline": 1, "steps": [{"step": name, parameter["name"]: float("nan")}]})


def test_the_canonical_form_spells_out_defaults_and_reads_back() -> None:
    pipeline = from_json(GOOD)
    form = pipeline.to_json()
    assert form["steps"][0]["edges"] == "solid"
    assert from_json(json.loads(json.dumps(form))).digest == pipeline.digest
    assert from_json({**GOOD, "steps": [{"id": "tilt", "step": "rotate", "degrees": [-12.0, 12]}]}).digest == pipeline.digest
    assert pipeline.with_seed(21).digest != pipeline.digest


def test_a_single_number_is_a_fixed_value() -> None:
    step = from_json({"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": 5}]}).to_json()["steps"][0]
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
