"""Steps made from functions: parameters from the signature, draws of their own, a digest that follows the source, workers that know them."""

from __future__ import annotations

import os
import pickle
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import varlen as v
from varlen.steps import describe

IMAGE = np.full((48, 64, 3), 200, np.uint8)


def test_signature_and_docstring_become_parameters_schema_and_trace() -> None:
    @v.step
    def lamp_dim(
        pixels, stream, *, strength: v.Range("share of level", 0, 1) = (0.1, 0.4), rows: v.Number("px", 1, 40, whole=True) = 4, top: bool = False
    ):  # type: ignore[no-untyped-def, valid-type]
        """Darken some rows.

        strength: how much darker
        """
        first = 0 if top else stream.below(len(pixels) - rows)
        pixels[first : first + rows] = (pixels[first : first + rows] * (1 - strength)).astype(np.uint8)
        return pixels

    about = describe(lamp_dim, schema=True)
    assert (about["step"], about["meaning"]) == ("lamp_dim", "Darken some rows.")
    strength, rows, top = about["parameters"][:3]
    assert (strength["control"], strength["unit"], strength["low"], strength["high"], strength["meaning"]) == (
        "span",
        "share of level",
        0,
        1,
        "how much darker",
    )
    assert (rows["control"], top["control"]) == ("whole", "switch")
    assert "strength" in about["schema"]["properties"]
    pipeline = v.Pipeline([lamp_dim(strength=(0.5, 0.5), rows=8)], seed=3)
    assert v.Pipeline.from_json(pipeline.to_json()) == pipeline
    out = pipeline.render(IMAGE)
    assert (out.image == 100).all(axis=(1, 2)).sum() == 8
    assert (out.image == pipeline.render(IMAGE).image).all()
    assert set(out.trace["steps"][0]["drawn"]) == {"strength", "stream"}
    with pytest.raises(v.VarlenError, match=r"lamp_dim\.strength: 3 is outside 0 … 1"):
        lamp_dim(strength=(3, 3))


def test_a_function_of_the_size_moves_labels_too() -> None:
    @v.step
    def aside(size, *, by: v.Range("of width", 0, 1) = (0.25, 0.25)):  # type: ignore[no-untyped-def, valid-type]
        """Move to the right."""
        return [[1, 0, by * size.width], [0, 1, 0], [0, 0, 1]]

    out = v.Pipeline([aside()]).render(IMAGE, v.Labels(boxes=[[4, 4, 20, 20]]))
    assert out.boxes.tolist() == [[20.0, 4.0, 36.0, 20.0]]
    assert (out.image[:, :16] == 0).all()
    assert (out.image[:, 16:] == 200).all()


def test_a_changed_function_is_another_digest_and_its_mistakes_name_it() -> None:
    @v.step
    def lamp(pixels):  # type: ignore[no-untyped-def]
        return pixels // 2

    first = v.Pipeline([lamp()])
    assert first.outside_steps() == {"lamp": lamp.source_digest}

    @v.step
    def lamp(pixels):  # type: ignore[no-untyped-def]
        return pixels // 4

    assert v.Pipeline([lamp()]).digest != first.digest
    assert first.outside_steps() != v.Pipeline([lamp()]).outside_steps()

    @v.step
    def broken(pixels):  # type: ignore[no-untyped-def]
        return pixels / 0.5

    @v.step
    def raising(pixels):  # type: ignore[no-untyped-def]
        raise KeyError("lamp")

    with pytest.raises(v.RenderError, match="step broken: must give back uint8"):
        v.Pipeline([broken()]).render(IMAGE).image  # noqa: B018
    with pytest.raises(v.RenderError, match="step raising: KeyError: 'lamp'"):
        v.Pipeline([raising()]).render(IMAGE).image  # noqa: B018


@pytest.mark.parametrize(("text", "said"), [
    ("def rotate(pixels): return pixels", "the step name 'rotate' is taken"),
    ("def odd(pixels, *, much=3): return pixels", "much must say what it is"),
    ("def odd(pixels, *, much: v.Range('px', 0, 9)): return pixels", "much needs a default"),
    ("def odd(pixels, *, much: v.Range('px', 0, 9) = (4, 2)): return pixels", "the range runs backwards"),
    ("def odd(pixels, *, probability: bool = True): return pixels", "every step has"),
    ("def odd(): return 3", "takes no pixels"),
])  # fmt: skip
def test_what_can_t_be_a_step_is_refused_in_one_line(text: str, said: str, tmp_path: Path) -> None:
    file = tmp_path / "odd_step.py"
    file.write_text(f"import varlen as v\n{text}\n")
    names: dict[str, object] = {}
    exec(compile(file.read_text(), str(file), "exec"), names)
    with pytest.raises(v.StepFileError) as caught:
        v.step(names["rotate" if "rotate" in text else "odd"])  # type: ignore[arg-type]
    assert said in str(caught.value)


SCRIPT = """
import sys
import numpy as np
import varlen as v

@v.step
def lamp(pixels, stream, *, strength: v.Range("share of level", 0, 1) = (0.1, 0.4)):
    return (pixels * (1 - strength * stream.unit())).astype(np.uint8)

if __name__ == "__main__":
    pictures = [(f"a{n}", np.full((48, 64, 3), 200, np.uint8), None) for n in range(20)]
    dataset = v.Dataset.from_arrays(pictures)
    pipeline = v.Pipeline([lamp()], seed=3)
    one = v.export(dataset, pipeline, "one", variants=2, format="pictures", workers=1)
    two = v.export(dataset, pipeline, "two", variants=2, format="pictures", workers=2)
    print(one.output_digest == two.output_digest, len(one.record["outside_steps"]))
    with v.stream(dataset, pipeline).batches(4, workers=2) as batches:
        print(sum(len(batch["keys"]) for batch in batches))
    try:
        v.export(dataset, pipeline, "three", format="pictures", scheduler="tcp://127.0.0.1:1")
    except v.VarlenError as error:
        print(error)
"""


def test_a_step_from_a_script_goes_to_forked_workers_and_is_refused_to_a_cluster(tmp_path: Path) -> None:
    (tmp_path / "script.py").write_text(SCRIPT)
    made = subprocess.run([sys.executable, "script.py"], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert made.returncode == 0, made.stderr
    same, fed, refused = made.stdout.splitlines()
    assert (same, fed) == ("True 1", "20")
    assert refused.startswith("step lamp: it was defined in a notebook or script, which a cluster's worker can't import; put it into a module")
    command = [sys.executable, "-m", "varlen", "recreate", "one", "3", "--dataset", "one"]
    again = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert again.returncode == 1
    assert "there is no step 'lamp'" in again.stderr
    assert "VARLEN_STEPS" in again.stderr


def test_a_process_that_can_t_know_a_step_says_where_it_should_be(tmp_path: Path) -> None:
    (tmp_path / "script.py").write_text(SCRIPT.split("if __name__")[0] + "import pickle\npickle.dump(v.Pipeline([lamp()]), open('kept', 'wb'))\n")
    subprocess.run([sys.executable, "script.py"], cwd=tmp_path, check=True)
    with pytest.raises(v.StepFileError, match="put it into a module or into a file named in VARLEN_STEPS"):
        pickle.loads((tmp_path / "kept").read_bytes())


def test_an_importable_step_is_known_in_spawned_processes_and_a_step_file_may_hold_functions(tmp_path: Path) -> None:
    (tmp_path / "lamps.py").write_text(SCRIPT.split("if __name__")[0])
    (tmp_path / "use.py").write_text(
        "import multiprocessing, pickle\nimport numpy as np\nimport varlen as v\nfrom lamps import lamp\n"
        "def mean(pipeline): return float(pipeline.render(np.full((8, 8, 3), 200, np.uint8)).image.mean())\n"
        "if __name__ == '__main__':\n    pipeline = v.Pipeline([lamp()], seed=3)\n"
        "    with multiprocessing.get_context('spawn').Pool(1) as pool:\n        print(pool.map(mean, [pipeline]) == [mean(pipeline)])\n"
    )
    made = subprocess.run([sys.executable, "use.py"], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert (made.returncode, made.stdout) == (0, "True\n"), made.stderr
    listed = subprocess.run([sys.executable, "-m", "varlen", "steps", "lamp"], env={**os.environ, "VARLEN_STEPS": str(tmp_path / "lamps.py")},
                            capture_output=True, text=True, check=False)  # fmt: skip
    assert listed.returncode == 0, listed.stderr
    assert "strength" in listed.stdout


def test_a_function_of_points_is_a_warp_that_labels_follow() -> None:
    @v.step(kind="warp")
    def swirl(points, values, size, *, turn: v.Range("radians", -2, 2) = (0.6, 0.6)):  # type: ignore[no-untyped-def, valid-type]
        """Turn the middle more than the border."""
        away = points - np.array(size) / 2
        angle = values.turn * np.exp(-((np.hypot(*away.T) / min(size) / 0.3) ** 2))
        cos, sin = np.cos(angle), np.sin(angle)
        return np.array(size) / 2 + np.stack([away[:, 0] * cos - away[:, 1] * sin, away[:, 0] * sin + away[:, 1] * cos], axis=1)

    image = np.full((240, 320, 3), 60, np.uint8)
    spots = [(x, y) for x in range(30, 310, 65) for y in range(30, 230, 55)]
    for x, y in spots:
        image[y - 2 : y + 3, x - 2 : x + 3] = 255
    points = np.array([[x + 0.5, y + 0.5] for x, y in spots])
    labels = v.Labels(keypoints=[[[x, y, 2] for x, y in points]])
    out = v.Pipeline([swirl()]).render(image, labels)
    for x, y in out.keypoints[0, :, :2]:
        left, top = int(x) - 5, int(y) - 5
        light = out.image[top : top + 11, left : left + 11, 0].astype(float) - 60
        rows, columns = np.mgrid[top : top + 11, left : left + 11] + 0.5
        assert abs((light * columns).sum() / light.sum() - x) < 0.15
        assert abs((light * rows).sum() / light.sum() - y) < 0.15
    assert v.Pipeline.from_json(v.Pipeline([swirl()]).to_json()) == v.Pipeline([swirl()])


def test_a_warp_that_folds_or_leads_elsewhere_is_refused() -> None:
    @v.step(kind="warp")
    def folded(points, values, size):  # type: ignore[no-untyped-def]
        """Fold it in the middle."""
        return np.stack([np.abs(points[:, 0] - 30), points[:, 1]], axis=1)

    @v.step(kind="warp", inverse=lambda points, values, size: points + np.array([5, 0]))
    def led_astray(points, values, size):  # type: ignore[no-untyped-def]
        """Move to the right."""
        return points + np.array([5, 0])

    @v.step(kind="warp", inverse=lambda points, values, size: points - np.array([5, 0]))
    def led_back(points, values, size):  # type: ignore[no-untyped-def]
        """Move to the right."""
        return points + np.array([5, 0])

    with pytest.raises(v.VarlenError, match="step folded: folds, mirrors or tears the picture at x"):
        v.Pipeline([folded()]).render(IMAGE)
    with pytest.raises(v.VarlenError, match="step led_astray: the inverse leads elsewhere"):
        v.Pipeline([led_astray()]).render(IMAGE)
    out = v.Pipeline([led_back()]).render(IMAGE, v.Labels(boxes=[[4, 4, 20, 20]]))
    assert np.allclose(out.boxes, [[9, 4, 25, 20]], atol=0.01)
    assert (out.image[:, :5] == 0).all()
    with pytest.raises(v.VarlenError, match="a warp takes points, values and size"):
        v.step(kind="warp")(lambda_with_a_name)


def lambda_with_a_name(points):  # type: ignore[no-untyped-def]
    """Too few arguments."""
    return points
