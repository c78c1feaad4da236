"""Scores of several editions: runs kept apart, means, paired and free differences, from the terminal too."""

from __future__ import annotations

import csv
import io
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from scipy import stats
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.scores import Score, attach, read_scores, scores_of
from varlen.errors import EvidenceError
from varlen.evidence.paired import COLUMNS, ScoredEdition, compare_scores, read_editions, to_csv

from tests.conftest import make_pipeline

BASE, BETTER = [0.60, 0.62, 0.61], [0.66, 0.69, 0.67]


def _edition(name: str, steps: int, **runs: dict[str, float]) -> ScoredEdition:
    scores = [Score(score, value, run=run) for run, values in runs.items() for score, value in values.items()]
    return ScoredEdition(name, "moths", "sha256:moths", name, steps, scores)


def test_runs_with_the_same_names_are_compared_pair_by_pair() -> None:
    rows = compare_scores([_edition("plain", 0, **{f"seed {n}": {"mAP": value} for n, value in enumerate(BASE)}),
                           _edition("turned", 2, **{f"seed {n}": {"mAP": value} for n, value in enumerate(BETTER)})])  # fmt: skip
    plain, turned = rows
    assert plain["difference"] is None
    assert (turned["n"], turned["paired"], turned["verdict"]) == (3, True, "helps")
    change = np.array(BETTER) - np.array(BASE)
    low, high = stats.t.interval(0.95, 2, change.mean(), change.std(ddof=1) / np.sqrt(3))
    assert (turned["difference_low"], turned["difference_high"]) == pytest.approx((low, high))


def test_runs_with_other_names_are_compared_by_welch() -> None:
    rows = compare_scores([_edition("plain", 0, **{f"a{n}": {"loss": value} for n, value in enumerate(BASE)}),
                           _edition("turned", 2, **{f"b{n}": {"loss": value} for n, value in enumerate(BETTER)})])  # fmt: skip
    told = stats.ttest_ind(BETTER, BASE, equal_var=False).confidence_interval()
    assert (rows[1]["difference_low"], rows[1]["difference_high"]) == pytest.approx((told.low, told.high))
    assert (rows[1]["paired"], rows[1]["verdict"]) == (False, "hurts")  # of a loss, more is worse


def test_one_run_says_nothing_of_chance_and_a_baseline_must_be_there() -> None:
    editions = [_edition("plain", 0, one={"mAP": 0.5}), _edition("turned", 1, one={"mAP": 0.6})]
    assert compare_scores(editions)[1]["verdict"] == "one run says nothing of chance"
    assert compare_scores(editions, "turned")[0]["difference"] == pytest.approx(-0.1)
    with pytest.raises(EvidenceError, match="there is no edition or pipeline 'none'"):
        compare_scores(editions, "none")


def test_the_last_epoch_of_each_run_counts() -> None:
    scores = [Score("mAP", 0.1 * epoch + run / 100, float(epoch), run=f"seed {run}") for run in (1, 2) for epoch in (1, 3, 2)]
    assert ScoredEdition("a", "d", "x", "p", 0, scores).finals() == {("mAP", ""): {"seed 1": pytest.approx(0.31), "seed 2": pytest.approx(0.32)}}


def test_a_trainers_table_with_seeds_is_understood() -> None:
    found = read_scores("seed,epoch,mAP,val/loss\n1,1,0.5,0.9\n1,2,0.6,0.8\n2,1,0.55,\n", "log.csv")
    assert [(score.run, score.name, score.split, score.epoch, score.value) for score in found] == [
        ("seed 1", "mAP", "", 1, 0.5), ("seed 1", "loss", "validation", 1, 0.9), ("seed 1", "mAP", "", 2, 0.6),
        ("seed 1", "loss", "validation", 2, 0.8), ("seed 2", "mAP", "", 1, 0.55),
    ]  # fmt: skip
    assert read_scores('{"run": "big", "mAP": 0.5}', "log.jsonl", "other")[0].run == "big"
    assert read_scores("epoch,mAP\n1,0.5\n", "log.csv", "nightly")[0].run == "nightly"


def test_from_the_terminal(survey, tmp_path: Path) -> None:
    for name, degrees in (("plain", [0, 0]), ("turned", [-5, 5])):
        steps = [{"step": "rotate", "degrees": degrees}] if name == "turned" else []
        pipeline = make_pipeline(*steps, {"step": "resize", "width_px": 64, "height_px": 48, "scope": "every"}, name=name)
        export(survey, pipeline, tmp_path / "editions" / name, ExportSpec(1))

    def varlen(*words: str) -> str:
        return subprocess.run([sys.executable, "-m", "varlen", *words], check=True, capture_output=True, text=True, cwd=tmp_path).stdout

    for name, values in (("plain", BASE), ("turned", BETTER)):
        attach(tmp_path / "editions" / name, [Score("mAP", value, split="validation", run=f"seed {n}") for n, value in enumerate(values)])
        varlen("score", f"editions/{name}", "recall", "0.5", "--run", "seed 0")
    assert len(scores_of(tmp_path / "editions" / "plain")) == 4
    rows = json.loads(varlen("scores", "editions", "--json"))
    turned = next(row for row in rows if row["edition"] == "turned" and row["score"] == "mAP")
    assert (turned["n"], turned["verdict"], turned["paired"]) == (3, "helps", True)
    table = list(csv.DictReader(io.StringIO(varlen("scores", "editions", "--csv"))))
    assert tuple(table[0]) == COLUMNS
    assert float(next(row for row in table if row["edition"] == "turned")["mean"]) == pytest.approx(np.mean(BETTER))
    assert "helps" in varlen("scores", "editions")
    assert to_csv(compare_scores(read_editions([tmp_path / "editions"]))).count("\n") == 5
    with pytest.raises(EvidenceError, match="no edition there"):
        read_editions([tmp_path])
