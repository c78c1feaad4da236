"""Processes are started where they pay."""

from __future__ import annotations

import json
import os

import pytest
from typer.testing import CliRunner
from varlen.cli.main import app
from varlen.datasets.dataset import Dataset
from varlen.editions.chunks import WORTH, fitting_workers


def test_few_images_are_made_in_one_process_and_many_in_all(survey: Dataset, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 7)
    size = next(iter(survey.entries.values())).size
    enough = -(-WORTH // (size.width * size.height))
    assert [fitting_workers(survey, count) for count in (0, 9, enough - 1, enough, 10**6)] == [1, 1, 1, 7, 7]


def test_a_plan_says_how_many_and_a_wish_is_kept_to(survey_folder: object) -> None:
    pipeline = f"{survey_folder}/pipelines/lamp-drift.varlen.json"
    for wish, expected in (([], 1), (["--workers", "2"], 2)):
        said = CliRunner().invoke(app, ["export", str(survey_folder), pipeline, "--dry-run", "--json", *wish])
        assert json.loads(said.stdout)["workers"] == expected
