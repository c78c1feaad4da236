"""An edition of many tiny pictures: whether time and memory of each stay the same as their number grows.

python benchmarks/scale.py 20000 200000
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SIDE = 32
#: An edition holds each picture and three variants of it.
EACH = 4

_STEP = """
import json, resource, sys, time
from pathlib import Path
begun = time.monotonic()
{imports}
first = 0.0
def progress(done, total):
    global first
    if done and not first:
        first = time.monotonic() - begun
{work}
seconds = time.monotonic() - begun
print(json.dumps([seconds, first, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024]))
"""


def write_pictures(folder: Path, count: int) -> None:
    """Gray noise with a box each, as COCO, a thousand files a folder."""
    import numpy as np
    from varlen.datasets.image_files import encode

    rng = np.random.default_rng(1)
    coded = [encode(rng.integers(0, 256, (SIDE, SIDE, 3)).astype(np.uint8), "jpeg", 90) for _ in range(64)]
    images, annotations = [], []
    for number in range(count):
        name = f"{number // 1000:04d}/{number:07d}.jpg"
        path = folder / "images" / "train" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        # Every file is another, as pictures are.
        path.write_bytes(coded[number % 64] + number.to_bytes(4, "big"))
        images.append({"id": number + 1, "file_name": name, "width": SIDE, "height": SIDE})
        annotations.append({"id": number + 1, "image_id": number + 1, "category_id": 1, "bbox": [4, 4, 16, 16], "area": 256, "iscrowd": 0})
    (folder / "annotations").mkdir()
    content = {"images": images, "annotations": annotations, "categories": [{"id": 1, "name": "moth"}]}
    (folder / "annotations" / "train.json").write_text(json.dumps(content))


def step(imports: str, work: str) -> tuple[float, float, float]:
    """Seconds, seconds until the first progress, and MiB of memory of a process of its own."""
    done = subprocess.run([sys.executable, "-c", _STEP.format(imports=imports, work=work)], capture_output=True, text=True, check=False)
    if done.returncode:
        sys.exit(done.stderr[-2000:])
    seconds, first, memory = json.loads(done.stdout.splitlines()[-1])
    return seconds, first, memory


def measure(count: int) -> dict[str, float]:
    """An edition of `count` images: written, verified, a late row recreated."""
    with tempfile.TemporaryDirectory(dir=os.environ.get("VARLEN_SCALE_DIR")) as place:
        folder, out = Path(place) / "pictures", Path(place) / "edition"
        write_pictures(folder, count // EACH)
        reading = ("from varlen.datasets.formats import read_dataset\nfrom varlen.pipeline.document import from_json\n"
                   "from varlen.editions.export import export\nfrom varlen.editions.export_spec import ExportSpec")  # fmt: skip
        pipeline = '{"varlen_pipeline": 1, "seed": 1, "steps": [{"step": "flip", "probability": 0.5}, {"step": "rotate", "degrees": [-9, 9]}]}'
        work = (f"export(read_dataset({str(folder)!r}), from_json(json.loads({pipeline!r})), Path({str(out)!r}), ExportSpec(3), workers=2,"
                " progress=progress)")  # fmt: skip
        seconds, first, memory = step(reading, work)
        files = [len(names) for _, _, names in os.walk(out)]
        checked, _, check_memory = step("from varlen.editions.verify import verify", f"assert verify(Path({str(out)!r})) == []")
        begun = time.monotonic()
        row = count - 2
        done = subprocess.run([Path(sys.executable).with_name("varlen"), "recreate", out, str(row)], capture_output=True, text=True, check=False)
        again = time.monotonic() - begun
        if "identical" not in done.stdout:
            sys.exit(done.stdout + done.stderr)
        shutil.rmtree(out)
    return {
        "images": count,
        "ms an image": 1000 * seconds / count,
        "first progress, s": first,
        "memory, MiB": memory,
        "most files in a folder": max(files),
        "verify, ms an image": 1000 * checked / count,
        "verify, MiB": check_memory,
        "recreate a late row, s": again,
    }


def main() -> None:
    found = [measure(int(text)) for text in sys.argv[1:]]
    for name in found[0]:
        print(f"{name:<26}", *(f"{each[name]:>14,.2f}" for each in found))


if __name__ == "__main__":
    main()
