"""What code renders is what files, screens and exports hold: one digest, the same draws, the same bytes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import varlen as v
from hypothesis import given, reject, settings
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.editions.rows import read_rows
from varlen.steps import BUILT_IN
from varlen.steps.base import Step

from tests.core.golden.dataset import pattern

SINGLE = [cls for cls in BUILT_IN if cls.purpose != "combine"]


def settings_of(cls: type[Step]) -> st.SearchStrategy[dict[str, Any]]:
    """Some parameters of a step, drawn within their limits."""
    chosen: dict[str, st.SearchStrategy[Any]] = {"probability": st.sampled_from([0.0, 0.5, 1.0])}
    for name in cls.parameters():
        extra = cls.model_fields[name].json_schema_extra or {}
        if isinstance(extra, dict) and extra.get("control") == "span" and not extra.get("whole") and cls.model_fields[name].default is not None:
            low, high = extra["slider"]
            chosen[name] = st.tuples(st.floats(low, high), st.floats(low, high)).map(lambda pair: tuple(sorted(round(each, 3) for each in pair)))
    return st.fixed_dictionaries({}, optional=chosen)


@st.composite
def step_lists(draw: st.DrawFn) -> list[Step]:
    classes = draw(st.lists(st.sampled_from(SINGLE), min_size=1, max_size=4))
    try:
        return [cls(**draw(settings_of(cls))) for cls in classes if cls.name() != "normalize"]
    except v.PipelineError:  # values that exclude each other, such as a bend that would fold
        reject()


@given(steps=step_lists(), seed=st.integers(0, 2**53 - 1), variant=st.integers(0, 5))
@settings(max_examples=60)
def test_code_and_file_come_to_one_digest_and_the_same_draws_and_pixels(steps: list[Step], seed: int, variant: int) -> None:
    built = v.Pipeline(steps, seed=seed)
    short = {"varlen_pipeline": 1, "seed": seed, "steps": [{"step": step.step, **given_of(step)} for step in steps]}
    read = v.Pipeline.parse(json.dumps(short))
    assert built.digest == read.digest
    assert built == read
    assert eval(repr(built), {name: getattr(v, name) for name in v.__all__}) == built
    image, labels = pattern(60, 44, 1), v.Labels(boxes=[[5, 5, 30, 25], [20, 10, 58, 40]], classes=["a", "b"])
    one, other = (pipeline.render(image, labels, key="k", variant=variant) for pipeline in (built, read))
    assert one.trace == other.trace
    assert (one.image == other.image).all()


def given_of(step: Step) -> dict[str, Any]:
    """What is not at its default, as a file would have it."""
    plain = step.model_dump(mode="json")
    return {name: plain[name] for name in step.parameters() if name in plain and getattr(step, name) != type(step).model_fields[name].default}


def test_rows_of_an_edition_are_what_render_makes(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    """Partners included: given by their keys, the draw picks the same ones."""
    pipeline = v.Pipeline.from_json(lamp_drift)
    assert any(step.step == "mosaic" for step in pipeline)
    v.export(survey, pipeline, tmp_path / "edition", variants=2, accept_loss=["all"])
    samples = {sample.key: sample for sample in survey if sample.split == "train"}
    for row in read_rows(tmp_path / "edition"):
        if row["split"] != "train":
            continue
        own = samples[row["source"]]
        partners = [(key, other.image, other.labels) for key, other in samples.items() if key != own.key]
        out = pipeline.render(own.image, own.labels, key=own.key, variant=row["variant"], partners=partners)
        assert out.trace["pixel_digest"] == row["pixel_digest"]
        assert out.trace["steps"] == row["trace"]["steps"]
        lost = [each for each in row["trace"]["objects"]["dropped"] if each["image"] == own.key]
        assert [(loss.id, loss.reason, loss.step) for loss in out.lost] == [(each["id"], each["reason"], each["step"]) for each in lost]
        streamed = v.stream(survey, pipeline, epoch=row["variant"] - 1) if row["variant"] else None
        if streamed is not None:
            assert (streamed[streamed.keys.index(own.key)]["image"] == out.image).all()


def test_a_dataset_of_arrays_is_exported_verified_and_made_again(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    arrays = v.Dataset.from_arrays(survey, skeleton=survey.skeleton, classes=survey.classes)
    assert arrays.counts() == survey.counts()
    files, held = v.export(survey, v.Pipeline.from_json(lamp_drift), tmp_path / "files", variants=1), None
    held = v.export(arrays, v.Pipeline.from_json(lamp_drift), tmp_path / "held", variants=1, format="coco", workers=2)
    digests = [{(row["source"], row["variant"]): row["pixel_digest"] for row in read_rows(edition.path)} for edition in (files, held)]
    assert digests[0] == digests[1]
    assert v.verify(held)
    assert v.recreate(held, 3, dataset=arrays).identical
    with pytest.raises(v.VarlenError, match="dataset=…"):
        v.recreate(held, 3)


def test_what_comes_out_has_the_form_of_what_went_in() -> None:
    image = pattern(64, 48, 1)
    masks = np.zeros((2, 48, 64), np.uint8)
    masks[0, 10:20, 10:30], masks[1, 30:40, 40:60] = 1, 1
    levels = (masks[0] + 2 * masks[1]).astype(np.int32) * 1000
    labels = v.Labels(masks=masks, classes=np.array([7, 3]), ids=["x", "y"], label_map=levels, void=-1, crowd=[False, True],
                      oriented=[[[10, 10], [30, 10], [30, 20], [10, 20]], [[40, 30], [60, 30], [60, 40], [40, 40]]])  # fmt: skip
    out = v.Pipeline([v.Shift(x_fraction=(0.5, 0.5), y_fraction=(0, 0))]).render(image, labels)
    assert (out.masks.dtype, out.masks.shape, out.classes.dtype, out.classes.tolist(), out.ids) == (np.uint8, (1, 48, 64), np.int64, [7], ["x"])
    assert out.boxes.tolist() == [[42.0, 10.0, 62.0, 20.0]]
    assert out.oriented.shape == (1, 4, 2)
    assert out.label_map.dtype == np.int32
    assert sorted(np.unique(out.label_map)) == [-1, 0, 1000]
    assert (out.label_map[:, :32] == -1).all()
    assert [(loss.id, loss.reason, loss.step) for loss in out.lost] == [("y", "outside the frame", "shift")]
    assert out.kept.tolist() == [0]
    again = v.Pipeline([v.Flip(probability=1)]).render(out.image, out.labels)
    assert again.boxes.tolist() == [[2.0, 10.0, 22.0, 20.0]]


def test_the_arrays_that_went_in_are_never_written_to_nor_given_back() -> None:
    image = pattern(64, 48, 1)
    before = image.copy()
    for steps in ([], [v.Flip(probability=1)], [v.Noise(probability=1)], [v.ColorJitter()], [v.Cutout(probability=1)], [v.Grayscale(probability=1)]):
        out = v.Pipeline(steps).render(image)
        assert not np.shares_memory(out.image, image)
        out.image[...] = 0
        moved = out.again(image)
        moved[...] = 0
        assert (image == before).all()


def test_gray_pictures_stay_gray_and_evaluation_takes_the_evaluation_line_only() -> None:
    gray = pattern(64, 48, 1)[:, :, :1]
    pipeline = v.Pipeline([v.Flip(probability=1), v.Resize(width_px=32, height_px=24)])
    assert pipeline.render(gray).image.shape == (24, 32, 1)
    assert (v.Pipeline([]).render(gray).image == gray).all()
    assert (pipeline.render(gray, split="validation").image[:, ::-1] == pipeline.render(gray).image).all()


def test_a_clip_draws_once_and_noise_where_asked_for_each_frame() -> None:
    frames = np.stack([pattern(64, 48, 1)] * 3)
    still = v.Pipeline([v.Rotate(degrees=(-30, 30)), v.Noise(probability=1)], seed=2)
    lively = v.Pipeline([v.Rotate(degrees=(-30, 30)), v.Noise(probability=1, per_frame=True)], seed=2)
    assert all((frame.image == still.render(frames[0]).image).all() for frame in still.render(frames))
    for clip in (lively.render(frames), still.render(frames, per_frame=True)):
        assert (clip[0].image == still.render(frames[0]).image).all()
        assert (clip[0].image != clip[1].image).any()
        assert clip[0].trace["steps"][0] == clip[1].trace["steps"][0]
    assert still.render(frames).again(np.zeros((3, 48, 64), np.float32)).shape == (3, 48, 64)
    around = v.Pipeline([v.Crop(mode="around_object")], seed=1)
    labels = [v.Labels(boxes=[[10 + 5 * t, 10, 30 + 5 * t, 30]]) for t in range(3)]
    assert len({tuple(frame.trace["steps"][0]["drawn"]["box_px"]) for frame in around.render(list(frames), labels)}) == 1


def test_a_group_shares_its_draws_and_noise_differs_within_it(survey: Dataset) -> None:
    keys = list(survey.entries)[:2]
    samples = [(key, survey[key].image, survey[key].labels) for key in keys]
    grouped = v.Dataset.from_arrays(samples, skeleton=survey.skeleton)
    entries = {
        key: type(entry)(**{name: getattr(entry, name) for name in entry.__slots__} | {"group": "night"}) for key, entry in grouped.entries.items()
    }
    grouped.entries = entries
    pipeline = v.Pipeline([v.Rotate(degrees=(-30, 30)), v.Noise(probability=1, per_frame=True)], seed=5, draw_per="group")
    stream = v.stream(grouped, pipeline)
    traces = [stream._ready().variant_labels(key, 1).trace["steps"] for key in stream.keys]
    assert traces[0][0] == traces[1][0]
    assert traces[0][1] != traces[1][1]
    alone = pipeline.render(survey[keys[0]].image, key=keys[0], group="night")
    assert alone.trace["steps"] == traces[0]


@given(st.lists(st.tuples(st.floats(0, 300), st.floats(0, 200), st.floats(4, 100), st.floats(4, 100)), min_size=1, max_size=8))
def test_every_convention_leads_back(boxes: list[tuple[float, float, float, float]]) -> None:
    given_boxes = np.array(boxes)
    labels = v.Labels.from_xywh(given_boxes)
    size = (640, 480)
    for back in (
        v.Labels.from_xywh(labels.to_xywh()), v.Labels.from_centre(labels.to_centre()), v.Labels.from_fractions(labels.to_fractions(size), size),
        v.Labels.from_centre_fractions(labels.to_centre_fractions(size), size), v.Labels.from_voc(labels.to_voc()),
    ):  # fmt: skip
        assert np.allclose(back.boxes, labels.boxes, atol=1e-9)
    assert np.allclose(labels.to_xywh(), given_boxes)


def test_mixed_pictures_carry_weights_and_classes_of_both() -> None:
    one, two = pattern(64, 48, 1), pattern(64, 48, 2)
    labels = [v.Labels(boxes=[[4, 4, 30, 30]], classes=[name], image_classes=[name]) for name in ("ash", "rust")]
    out = v.Pipeline([v.Mixup(probability=1, weight=(0.7, 0.7))]).render(one, labels[0], partners=[(two, labels[1])])
    assert out.classes == ["ash", "rust"]
    assert out.kept.tolist() == [0, -1]
    assert out.image_classes == pytest.approx({"ash": 0.7, "rust": 0.3})
    flat = out.again(np.full((48, 64), 1.0), partners=[np.full((48, 64), 0.0)])
    assert flat.mean() == pytest.approx(0.7)
    with pytest.raises(v.ArrayError, match="partners="):
        out.again(np.zeros((48, 64)))
