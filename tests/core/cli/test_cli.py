"""The command as a person types it: results, and one clear line for everything that can go wrong."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from varlen.datasets.image_files import decode, encode


def varlen(*arguments: object, **options: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "varlen", *map(str, arguments)], capture_output=True, text=True, timeout=120, **options)


def refused(*arguments: object) -> str:
    """The one line on stderr of a command that must fail with status 1; what a slow machine would say of progress is not asked for."""
    done = varlen(*arguments, env={**os.environ, "VARLEN_QUIET": "1"})
    assert done.returncode == 1, (done.stdout, done.stderr)
    assert "Traceback" not in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1, done.stderr
    return done.stderr.strip()


@pytest.fixture
def pipeline(survey_folder: Path) -> Path:
    return survey_folder / "pipelines" / "lamp-drift.varlen.json"


def test_inspect(survey_folder: Path) -> None:
    summary = json.loads(varlen("inspect", survey_folder, "--json").stdout)
    assert summary["splits"]["train"]["images"] == 6
    assert summary["image_sizes"] == {"960×720": 8}
    assert len(summary["mirror_pairs"]) == 3
    pixels = [decode(path.read_bytes(), path.name) for path in sorted((survey_folder / "images" / "train").iterdir())]
    assert summary["channel_mean"][0] == pytest.approx(sum(p[..., 0].mean() for p in pixels) / 6, abs=0.01)
    assert "lantern mote" in varlen("inspect", survey_folder).stdout


def test_steps_loads_no_array_library() -> None:
    assert "counter-clockwise" in varlen("steps", "rotate").stdout
    assert {about["step"] for about in json.loads(varlen("steps", "--json").stdout)} >= {
        "flip",
        "rotate",
        "crop",
        "resize",
        "color_jitter",
        "blur",
        "mosaic",
    }
    code = (
        "import sys; sys.argv = ['varlen', 'steps']; from varlen.cli.main import app; app(standalone_mode=False); "
        "print([name for name in ('numpy', 'numba', 'scipy') if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.endswith("[]\n")
    assert "there is no step 'spin'" in refused("steps", "spin")


def test_pipeline_check_and_show(pipeline: Path, tmp_path: Path) -> None:
    checked = varlen("pipeline", "check", pipeline)
    shown = varlen("pipeline", "show", pipeline)
    assert checked.returncode == 0
    assert shown.stderr.strip() in checked.stdout
    (tmp_path / "full.json").write_text(shown.stdout)
    assert shown.stderr.strip() in varlen("pipeline", "check", tmp_path / "full.json").stdout
    (tmp_path / "bad.json").write_text('{"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": [0, 500]}]}')
    assert refused("pipeline", "check", tmp_path / "bad.json") == f"{tmp_path}/bad.json: steps[0].degrees: 500 is outside -180 … 180 degrees"


@pytest.mark.slow
def test_sheet(survey_folder: Path, pipeline: Path, tmp_path: Path) -> None:
    assert varlen("sheet", survey_folder, pipeline, "-o", tmp_path / "s.png", "--rows", 2, "--variants", 3, "--tile", 100).returncode == 0
    sheet = decode((tmp_path / "s.png").read_bytes(), "s.png")
    assert sheet.shape[:2] == (2 * 75 + 3 * 8, 4 * 100 + 5 * 8)
    assert "no" in refused("sheet", survey_folder, pipeline, "-o", tmp_path / "no" / "such" / "s.png").lower()


@pytest.mark.slow
def test_export_and_verify(survey_folder: Path, pipeline: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    record = json.loads(varlen("export", survey_folder, pipeline, "-o", out, "--variants", 1, "--no-originals", "--seed", 9, "--json").stdout)
    assert (record["seed"], record["originals"], record["counts"]["train"]["images"]) == (9, False, 6)
    assert record["output_digest"] in varlen("verify", out).stdout
    (out / "annotations" / "test.json").write_text("{}")
    assert "annotations/test.json: changed since it was written" in refused("verify", out)
    assert "no edition here" in refused("verify", tmp_path)
    assert varlen("export", survey_folder).returncode == 2


@pytest.mark.slow
def test_demo_is_the_same_every_time(tmp_path: Path) -> None:
    for name in ("a", "b"):
        assert varlen("demo", tmp_path / name, "--images", 3, "--seed", 4).returncode == 0
    for path in (tmp_path / "a").rglob("*.*"):
        assert path.read_bytes() == (tmp_path / "b" / path.relative_to(tmp_path / "a")).read_bytes()
    assert "exists and is not empty" in refused("demo", tmp_path / "a")


@pytest.mark.slow
def test_a_truncated_picture_stops_an_export_until_it_is_mended_or_left_out(survey_folder: Path, pipeline: Path, tmp_path: Path) -> None:
    shutil.copytree(survey_folder, tmp_path / "in")
    broken = sorted((tmp_path / "in" / "images" / "train").iterdir())[-1]
    broken.write_bytes(broken.read_bytes()[:20_000])
    for workers in (1, 2):
        message = refused("export", tmp_path / "in", pipeline, "-o", tmp_path / "out", "--workers", workers)
        assert f"images/train/{broken.name}: damaged picture" in message
        assert not (tmp_path / "out").exists()
    assert broken.name in refused("inspect", tmp_path / "in")
    done = varlen("export", tmp_path / "in", pipeline, "-o", tmp_path / "out", "--resume", "--leave-out-broken")
    assert f"left out: images/train/{broken.name}, variant 0: " in done.stderr
    record = json.loads((tmp_path / "out" / "edition.json").read_text())
    assert {each["source"] for each in record["left_out"]} >= {f"images/train/{broken.name}"}
    assert record["counts"]["train"]["images"] + len(record["left_out"]) == 24
    assert broken.name in (tmp_path / "out" / "README.md").read_text()
    assert varlen("verify", tmp_path / "out").returncode == 0


def test_a_picture_of_another_size_than_its_labels_say(survey_folder: Path, pipeline: Path, tmp_path: Path) -> None:
    shutil.copytree(survey_folder, tmp_path / "in")
    odd = sorted((tmp_path / "in" / "images" / "train").iterdir())[0]
    odd.write_bytes(encode(decode(odd.read_bytes(), "x")[:500], "jpeg"))
    assert "the picture is 960×500 px, its labels say 960×720 px" in refused("export", tmp_path / "in", pipeline, "-o", tmp_path / "out")


@pytest.mark.slow
def test_places_that_can_t_be_read_or_written(survey_folder: Path, pipeline: Path, tmp_path: Path) -> None:
    assert "no such file or folder" in refused("inspect", tmp_path / "missing")
    (tmp_path / "empty").mkdir()
    assert "not recognised as a dataset" in refused("inspect", tmp_path / "empty")
    (tmp_path / "file.txt").write_text("x")
    assert "can't be written" in refused("export", survey_folder, pipeline, "-o", tmp_path / "file.txt" / "out")
    assert refused("export", survey_folder, pipeline, "-o", "/proc/varlen-out").startswith("/proc/varlen-out: can't be written")
    assert "No such file" in refused("export", survey_folder, tmp_path / "missing.json", "-o", tmp_path / "out")


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
def test_a_folder_without_write_permission(survey_folder: Path, pipeline: Path, tmp_path: Path) -> None:
    (tmp_path / "locked").mkdir(mode=0o500)
    assert "Permission denied" in refused("export", survey_folder, pipeline, "-o", tmp_path / "locked" / "out")


def test_without_a_terminal_it_says_every_few_seconds_that_it_goes_on(survey_folder: Path, tmp_path: Path) -> None:
    """A line while reading and before the first image, and none with --quiet, wherever that stands."""
    slow = (
        "import sys, time\nimport varlen.cli.terminal as terminal\nterminal.LINE_SECONDS = 0.05\n"
        "import varlen.datasets.formats as formats\nreal = formats.read_dataset\n"
        "formats.read_dataset = lambda *given, **more: (time.sleep(0.4), real(*given, **more))[1]\n"
        "from varlen.cli.main import main\nmain()"
    )
    pipeline = str(survey_folder / "pipelines" / "lamp-drift.varlen.json")
    for number, more in enumerate(([], ["--quiet"])):
        words = [*more, "export", str(survey_folder), pipeline, "-o", str(tmp_path / str(number)), "--variants", "1", "--workers", "1"]
        done = subprocess.run([sys.executable, "-c", slow, *words], capture_output=True, text=True, check=True)
        assert ("reading" in done.stderr) is (not more), done.stderr
        assert done.stdout.splitlines()[-2].startswith("sha256:")
        if more:
            assert not [line for line in done.stderr.splitlines() if "writing" in line or "…" in line]
