"""Pipelines to begin with can be used as they are."""

from __future__ import annotations

import pytest
from varlen.datasets.dataset import Dataset
from varlen.forecasts.label_forecast import forecast
from varlen.pipeline.document import from_json
from varlen.pipeline.starting_points import STARTING_POINTS, StartingPoint
from varlen.render.renderer import Renderer


@pytest.mark.parametrize("point", STARTING_POINTS, ids=[point.task for point in STARTING_POINTS])
def test_a_starting_point_renders_and_loses_few_labels(point: StartingPoint, survey: Dataset) -> None:
    """Small, said in one sentence, and gentle: of the survey's objects at most one in six is lost, where they matter one by one."""
    pipeline = from_json(point.document)
    assert len(pipeline.steps) <= 6
    assert point.why.endswith(".")
    assert point.why.count(".") == 1
    sample, _ = Renderer(survey, pipeline).render(next(iter(survey.by_split()["train"])), 1)
    assert min(sample.pixels.shape[:2]) > 0
    if point.task != "classification":
        assert forecast(survey, pipeline, 60)["lost_share"] < 0.17


def test_every_task_is_there_once() -> None:
    tasks = [point.task for point in STARTING_POINTS]
    assert tasks == ["empty", "classification", "detection", "segmentation", "keypoints", "pictures from above"]
    assert len({point.document["name"] for point in STARTING_POINTS}) == len(tasks)
