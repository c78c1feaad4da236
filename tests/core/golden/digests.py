"""Everything about the golden dataset in digests: `python -m tests.core.golden.digests` writes them anew, on purpose only."""

from __future__ import annotations

import hashlib
import json
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

import orjson
from varlen.datasets import convert, formats
from varlen.datasets.dataset import Dataset
from varlen.editions import export
from varlen.editions.export_spec import ExportSpec
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json

from tests.core.golden.dataset import golden, pair
from tests.core.golden.pipelines import EXPORTED, PIPELINES

PINNED = Path(__file__).with_name("pinned.json")
VERSION = "0.1.0"


@contextmanager
def fixed_version() -> Iterator[None]:
    """Output digests hold Varlen's version; what is pinned was made by this one."""
    with mock.patch.object(export, "__version__", VERSION):
        yield


def sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()[:24]


def variants(dataset: Dataset, document: dict[str, Any]) -> dict[str, str]:
    """Pixels, labels, label maps and traces of two variants and the original of every picture."""
    renderer = Renderer(dataset, from_json(document))
    pixels, labels, maps, traces = [], [], [], []
    for key in dataset.entries:
        for variant in (0, 1, 2):
            sample, trace = renderer.render(key, variant)
            pixels.append(trace["pixel_digest"])
            labels.append(orjson.dumps([objects_to_json(sample.objects, dataset.classes, digits=6), sample.classes], option=orjson.OPT_SORT_KEYS))
            maps.append(b"" if sample.label_map is None else sample.label_map.tobytes())
            traces.append(orjson.dumps(trace, option=orjson.OPT_SORT_KEYS))
    return {
        "pixels": sha("".join(pixels).encode()),
        "labels": sha(b"\n".join(labels)),
        "label_maps": sha(b"|".join(maps)),
        "traces": sha(b"\n".join(traces)),
    }


def tree(folder: Path, without: tuple[str, ...] = ()) -> str:
    """All files of a folder, names and contents."""
    files = sorted(path for path in folder.rglob("*") if path.is_file() and path.name not in without)
    return sha("\n".join(f"{path.relative_to(folder).as_posix()} {sha(path.read_bytes())}" for path in files).encode())


def all_digests() -> dict[str, Any]:
    """Dataset, pipeline, pixel and output digests, and those of every format's files, there and back."""
    dataset, two = golden(), pair()
    found: dict[str, Any] = {
        "datasets": {"golden": dataset.digest(), "golden stored": golden("stored").digest(), "pair": two.digest()},
        "pipelines": {name: from_json(document).digest for name, document in PIPELINES.items()},
        "variants": {name: variants(dataset, document) for name, document in PIPELINES.items()},
        "pairs": {name: variants(two, PIPELINES[name]) for name in ("mosaic", "mixup", "paste_objects", "mosaic-within")},
        "exports": {}, "converted": {}, "read back": {},
    }  # fmt: skip
    with tempfile.TemporaryDirectory() as folder, fixed_version():
        for form in formats.WRITERS:
            for image, quality in (("png", 90), ("jpeg", 80)):
                out = Path(folder, f"{form}-{image}")
                record = export.export(dataset, from_json(EXPORTED), out, ExportSpec(variants=2, format=form, image=image, quality=quality))
                found["exports"][f"{form} {image}"] = [record["output_digest"], tree(out, without=("edition.json",))]
            out = Path(folder, f"{form}-converted")
            try:
                convert.convert(dataset, out, form)
            except Exception as error:
                found["converted"][form] = f"{type(error).__name__}: {error}"
                continue
            found["converted"][form] = tree(out)
            if form in ("coco", "voc", "yolo", "yolo-polygons", "yolo-keypoints", "class-folders", "mask-pairs"):
                found["read back"][form] = formats.read_dataset(out).digest()
    return found


if __name__ == "__main__":
    PINNED.write_text(json.dumps(all_digests(), indent=1) + "\n")
    print(f"{PINNED}: written", file=sys.stderr)
