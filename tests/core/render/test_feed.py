"""The training feed: epochs reach workers that stay alive, batches come in a fixed order, figures are checked, nothing is left behind."""

from __future__ import annotations

import json
import multiprocessing
import os
import pickle
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import varlen as v
from varlen.datasets.dataset import Dataset
from varlen.kernels.pixel_digest import pixel_digest

from tests.core.golden.dataset import pattern

PIPELINE = v.Pipeline([v.Flip(), v.Rotate(), v.Resize(width_px=64, height_px=48, fit="letterbox")], seed=9)
_HELD: list[Any] = []


def hold(samples: Any) -> None:
    """A worker that is sent its source once and stays alive."""
    _HELD[:] = [samples]


def look(number: int) -> tuple[int, str]:
    sample = _HELD[0][number]
    return sample["variant"], pixel_digest(np.ascontiguousarray(sample["image"]))


def variant_of(given: tuple[Any, int]) -> int:
    """A worker that is sent its source anew each time."""
    samples, number = given
    return int(samples[number]["variant"])


@pytest.fixture
def labelled() -> Dataset:
    """Instance masks on some, oriented boxes on others, image-level classes on all."""
    mask = np.zeros((48, 64), bool)
    mask[10:30, 12:40] = True
    corners = [[10, 10], [30, 14], [28, 24], [8, 20]]
    samples = []
    for number in range(6):
        parts: dict[str, Any] = {"masks": [mask], "boxes": [[12, 10, 40, 30]]} if number % 2 else {"oriented": [corners]}
        samples.append((f"a{number}", pattern(64, 48, number), v.Labels(**parts, classes=["moth"], image_classes=["night"])))
    return v.Dataset.from_arrays(samples, classes=["moth", "night"])


@pytest.mark.parametrize("method", ["fork", "spawn", "forkserver"])
def test_a_new_epoch_reaches_workers_that_stay_alive(survey: Dataset, method: str) -> None:
    samples = v.stream(survey, PIPELINE)
    with multiprocessing.get_context(method).Pool(2, hold, (samples,)) as pool:
        for epoch in (0, 3, 1):
            samples.set_epoch(epoch)
            assert pool.map(look, range(4)) == [(epoch + 1, pixel_digest(samples[n]["image"])) for n in range(4)]
        assert pool.map(variant_of, [(samples, 0)]) == [2]


def test_copies_share_the_epoch_and_outlive_the_first(survey: Dataset) -> None:
    samples = v.stream(survey, PIPELINE, epoch=2)
    kept = pickle.dumps(samples)
    copy = pickle.loads(kept)
    samples.set_epoch(5)
    assert copy.epoch == 5
    assert v.stream(survey, PIPELINE).epoch == 0
    del samples, copy
    assert pickle.loads(kept).epoch == 2  # the first has gone: one of its own, from where it was written down


def test_on_another_machine_a_copy_is_refused(survey: Dataset, monkeypatch: pytest.MonkeyPatch) -> None:
    kept = pickle.dumps(v.stream(survey, PIPELINE))
    monkeypatch.setattr("socket.gethostname", lambda: "another")
    with pytest.raises(v.VarlenError, match="make the stream here"):
        pickle.loads(kept)


@pytest.mark.parametrize("workers", [0, 2])
def test_batches_come_in_an_order_that_depends_on_seed_and_epoch_alone(survey: Dataset, workers: int) -> None:
    samples = v.stream(survey, PIPELINE)
    with samples.batches(4, workers=workers) as batches:
        assert len(batches) == 2
        first = list(batches)
        assert [key for batch in first for key in batch["keys"]] == list(samples.keys)
        assert (first[1]["image"][0] == samples[4]["image"]).all()
        first[0]["image"][...] = 0  # one's own
        samples.set_epoch(1)
        assert [set(batch["variants"]) for batch in batches] == [{2}, {2}]
    orders = []
    for epoch in (0, 0, 1):
        samples.set_epoch(epoch)
        with samples.batches(4, workers=workers, shuffle=True, drop_last=True) as batches:
            orders.append([key for batch in batches for key in batch["keys"]])
    assert orders[0] == orders[1] != orders[2]
    assert len(orders[0]) == 4


def test_whoever_stops_early_leaves_nothing_behind(survey: Dataset) -> None:
    samples = v.stream(survey, PIPELINE)
    batches = samples.batches(1, workers=2)
    for batch in batches:
        assert batch["image"].shape == (1, 48, 64, 3)
        folder = batches._folder
        assert Path(folder).exists()
        break
    batches.close()
    assert not [child for child in multiprocessing.active_children() if child.is_alive()]
    assert not Path(folder).exists()


FEEDING = """
import signal, sys, varlen as v
signal.signal(signal.SIGINT, signal.default_int_handler)  # whoever runs the tests in the background has it ignored
if __name__ == "__main__":
    samples = v.stream(sys.argv[1], v.Pipeline([v.Resize(width_px=64, height_px=48)]))
    with samples.batches(2, workers=2) as batches:
        while True:
            for batch in batches:
                print(len(batch["keys"]), flush=True)
"""


def test_ctrl_c_ends_all_processes_at_once(survey_folder: Path, tmp_path: Path) -> None:
    (tmp_path / "feeding.py").write_text(FEEDING)
    process = subprocess.Popen([sys.executable, "feeding.py", str(survey_folder)], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                               text=True, start_new_session=True)  # fmt: skip
    assert process.stdout is not None
    assert process.stdout.readline() == "2\n"
    os.killpg(process.pid, signal.SIGINT)  # as a terminal does: to all of them
    _, said = process.communicate(timeout=30)
    assert said.count("KeyboardInterrupt") == 1, said
    assert "Traceback" not in said.split("KeyboardInterrupt")[-1]
    time.sleep(0.2)
    with pytest.raises(ProcessLookupError):
        os.killpg(process.pid, 0)


def test_samples_and_batches_hold_every_kind_of_label(labelled: Dataset) -> None:
    samples = v.stream(labelled, v.Pipeline([]))
    one, other = samples[0], samples[1]
    assert (one["masks"].shape, one["masks"].any(), other["masks"][0, 10:30, 12:40].all(), other["masks"].sum()) == ((1, 48, 64), False, True, 560)
    assert one["oriented"][0].tolist() == [[10, 10], [30, 14], [28, 24], [8, 20]]
    assert np.isnan(other["oriented"]).all()
    assert one["image_classes"].tolist() == [0.0, 1.0]
    padded, ragged = v.batch([samples[n] for n in range(4)]), v.batch([samples[n] for n in range(4)], "ragged")
    assert (padded["masks"].shape, padded["oriented"].shape, len(padded["polygons"])) == ((4, 1, 48, 64), (4, 1, 4, 2), 4)
    assert (ragged["masks"].shape, ragged["oriented"].shape, len(ragged["polygons"])) == ((4, 48, 64), (4, 4, 2), 4)
    assert padded["image_classes"].shape == (4, 2)


def test_levels_and_shares_of_white(survey: Dataset) -> None:
    levels, shares = v.stream(survey, PIPELINE), v.stream(survey, PIPELINE, range="0-1")
    assert np.allclose(shares[0]["image"], levels[0]["image"] / 255.0, atol=1e-7)
    figures = ([0.485, 0.456, 0.406], [0.229, 0.224, 0.225])
    same = ([value * 255 for value in figures[0]], [value * 255 for value in figures[1]])
    one = v.stream(survey, PIPELINE, range="0-1", normalized=figures, channels="first")[0]["image"]
    other = v.stream(survey, PIPELINE, normalized=same, channels="first")[0]["image"]
    assert np.allclose(one, other, atol=1e-5)
    assert np.allclose(one.transpose(1, 2, 0), (levels[0]["image"] / 255.0 - figures[0]) / figures[1], atol=1e-5)


WRONG = {
    "shares for levels": ({"normalized": ([0.485, 0.456, 0.406], [0.229, 0.224, 0.225])}, "levels of 0-255 were expected: write 123.675 and 58.395"),
    "levels for shares": ({"range": "0-1", "normalized": ([123.7, 116.3, 103.5], [58.4, 57.1, 57.4])}, "the scale 0-1 was expected"),
    "no deviation": ({"normalized": ([120, 110, 100], [50, 0, 50])}, "the deviation of channel 1 is 0"),
    "two channels": ({"normalized": ([120, 110], [50, 50])}, "one for each of three channels"),
    "one list": ({"normalized": [120, 110, 100]}, "expected (mean, deviation)"),
    "range": ({"range": "0-2"}, "neither '0-255' nor '0-1'"),
    "channels": ({"channels": "middle"}, "neither 'last' nor 'first'"),
    "epoch": ({"epoch": -1}, "below 0"),
}  # fmt: skip


@pytest.mark.parametrize(("options", "said"), WRONG.values(), ids=WRONG)
def test_wrong_figures_say_which_scale_was_expected(survey: Dataset, options: dict, said: str) -> None:
    with pytest.raises(v.VarlenError) as caught:
        v.stream(survey, PIPELINE, **options)
    assert said in str(caught.value)


def test_figures_of_the_wrong_scale_in_a_step_and_those_used_are_on_record(survey: Dataset, tmp_path: Path) -> None:
    small = v.Resize(width_px=24, height_px=18)
    wrong = v.Pipeline([small, v.Normalize(mean=(0.485, 0.456, 0.406), std=(0.229, 0.224, 0.225))])
    with pytest.raises(v.VarlenError, match=r"step normalize: a mean of 0\.485 .* levels of 0-255 were expected"):
        v.stream(survey, wrong, normalized=True)
    pipeline = v.Pipeline([small, v.Normalize(mean=(120, 110, 100), std=(50, 51, 52))])
    v.export(survey, pipeline, tmp_path / "out", variants=1, format="npz", accept_loss=["all"])
    record = json.loads((tmp_path / "out" / "edition.json").read_text())
    assert record["normalized"] == {"mean": [120.0, 110.0, 100.0], "deviation": [50.0, 51.0, 52.0]}
    assert "minus the mean (120, 110, 100), divided by the deviation (50, 51, 52)" in (tmp_path / "out" / "README.md").read_text()
