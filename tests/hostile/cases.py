"""Broken and hostile datasets: a seed gives a tree of files in which something is wrong, always the same."""

from __future__ import annotations

import io
import json
import random
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from tests.core.datasets.test_layouts import LAYOUTS
from tests.core.datasets.trees import Content, box, coco, data_of, image, levels, xml

#: Values that stand where others are expected.
ODD: tuple[Any, ...] = (
    None, True, [], {}, [[]], "", "x", "\u0000", "a\u0000b", "\ud800", "../../etc/passwd", "C:\\x", "/", ".", "é" * 300, "x" * 5000,
    -1, 0, 1e308, -1e308,
    2**70, -(2**63) - 1, 0.1, [1, 2], [None] * 4, {"a": {"b": []}}, "1e999", [["a", "b"]], [1e308, 1e308, 1e308, 1e308], "\u202e", "\n", 255, 65536,
)  # fmt: skip
#: Bits of text that mean something to one parser or another.
BITS = (b"\x00", b"\xff\xfe", b"\xef\xbb\xbf", b"{", b"]", b"NaN", b"1e999", b"<!DOCTYPE x [<!ENTITY a 'b'>]>", b"&a;", b"<", b"*x",
        b"&x [*x, *x]", b"-", b"\r",
        b"\xed\xa0\x80", b"999999999999999999999999", b"[" * 3000, b'"', b",", b"\t", b"%", b"\x1b[31m")  # fmt: skip


def tree_of(seed: int) -> tuple[dict[str, bytes], dict[str, Any], bool]:
    """Files by path, the options to read them with, and whether they come as a zip."""
    draw = random.Random(seed)
    name = draw.choice(sorted(LAYOUTS))
    layout = LAYOUTS[name]
    files = {path: data_of(Path(path).suffix.lower(), content, number) for number, (path, content) in enumerate(layout.files.items())}
    for _ in range(draw.choice((1, 1, 1, 2, 4))):
        path = draw.choice(sorted(files))
        files[path] = worse(draw, path, files[path])
        if draw.random() < 0.1:
            files.pop(draw.choice(sorted(files)))
        if draw.random() < 0.1:
            files[odd_path(draw, path)] = files.get(path, b"")
        if not files:
            files = {"a.txt": b""}
    return files, dict(layout.options), draw.random() < 0.25


def worse(draw: random.Random, path: str, data: bytes) -> bytes:
    """A file with something wrong in it."""
    ways: list[Callable[[random.Random, bytes], bytes]] = [flipped, cut, stuffed, doubled, emptied]
    if path.endswith((".json", ".jsonl")):
        ways += [changed_json] * 6
    if path.endswith((".txt", ".csv", ".yaml", ".names", ".xml")):
        ways += [changed_words] * 4
    if path.lower().endswith((".jpg", ".png", ".webp", ".bmp")):
        ways += [other_picture] * 4
    return draw.choice(ways)(draw, data)


def flipped(draw: random.Random, data: bytes) -> bytes:
    found = bytearray(data)
    for _ in range(draw.choice((1, 3, 20))):
        if found:
            found[draw.randrange(len(found))] ^= 1 << draw.randrange(8)
    return bytes(found)


def cut(draw: random.Random, data: bytes) -> bytes:
    return data[: draw.randrange(len(data) + 1)]


def stuffed(draw: random.Random, data: bytes) -> bytes:
    place = draw.randrange(len(data) + 1)
    return data[:place] + draw.choice(BITS) + data[place:]


def doubled(draw: random.Random, data: bytes) -> bytes:
    return data + data[draw.randrange(len(data) + 1) :]


def emptied(draw: random.Random, data: bytes) -> bytes:
    return draw.choice((b"", b"\n", b"null", b"[]", b"{}", b"0", b"\x00" * 50))


def changed_json(draw: random.Random, data: bytes) -> bytes:
    """A value somewhere in it becomes another."""
    try:
        document = json.loads(data)
    except (ValueError, RecursionError):
        return stuffed(draw, data)
    for _ in range(draw.choice((1, 1, 2, 5))):
        holder, name = document, None
        while True:
            inside = list(holder) if isinstance(holder, dict) else list(range(len(holder))) if isinstance(holder, list) else []
            if not inside:
                break
            name = draw.choice(inside)
            if not isinstance(holder[name], (dict, list)) or not holder[name] or draw.random() < 0.2:
                break
            holder = holder[name]
        if name is not None:
            if draw.random() < 0.15 and isinstance(holder, dict):
                del holder[name]
            else:
                holder[name] = draw.choice(ODD)
        elif isinstance(document, list):
            document.append(draw.choice(ODD))
    try:
        return json.dumps(document).encode()
    except ValueError:
        return data


def changed_words(draw: random.Random, data: bytes) -> bytes:
    """A word becomes another."""
    words = data.split(b" ")
    for _ in range(draw.choice((1, 2, 5))):
        odd = draw.choice(ODD)
        words[draw.randrange(len(words))] = str(odd).encode("utf-8", "surrogatepass")[:5000]
    return b" ".join(words)


def other_picture(draw: random.Random, data: bytes) -> bytes:
    """A picture of another kind, of odd levels, or with odd EXIF."""
    stream = io.BytesIO()
    match draw.randrange(8):
        case 0:
            Image.fromarray(np.full((30, 40), 1.5, np.float32)).save(stream, "TIFF")
        case 1:
            Image.fromarray(np.full((30, 40), -7, np.int32)).save(stream, "TIFF")
        case 2:
            Image.new("RGB", (40, 30)).save(stream, "TIFF", save_all=True, append_images=[Image.new("RGB", (40, 30))])
        case 3:
            Image.new("RGB", (1, 1)).save(stream, "PNG")
        case 4:
            exif = Image.Exif()
            exif[0x0112] = draw.choice((0, 9, 6, 65535))
            Image.new("RGB", (40, 30)).save(stream, "JPEG", exif=exif)
        case 5:
            # A header that claims far more than there is.
            Image.new("L", (40, 30)).save(stream, "PNG")
            found = bytearray(stream.getvalue())
            found[16:24] = draw.choice(
                (b"\x00\x01\x00\x00\x00\x01\x00\x00", b"\x00\x00\xff\xff\x00\x00\x00\x01", b"\xff\xff\xff\xff\xff\xff\xff\xff")
            )
            return bytes(found)
        case 6:
            Image.new("CMYK", (40, 30)).save(stream, "JPEG")
        case _:
            Image.fromarray(np.full((30, 40), 60000, np.uint16)).save(stream, "PNG")
    return stream.getvalue()


def odd_path(draw: random.Random, path: str) -> str:
    name = draw.choice(("x" * 200, "a b", "ü", "a\nb", ".hidden", "CON", "a.tar.gz", "labels", "%2e%2e", "a'b\"c", "é" * 60))
    return f"{Path(path).parent.as_posix()}/{name}{Path(path).suffix}".removeprefix("./")


def write_case(seed: int, folder: Path) -> tuple[Path, dict[str, Any]]:
    """The case's files in a folder or a zip, which may itself be damaged."""
    files, options, zipped = tree_of(seed)
    draw = random.Random(~seed)
    if not zipped:
        for path, data in files.items():
            target = folder / "set" / path
            target.parent.mkdir(parents=True, exist_ok=True)
            if not target.is_dir():
                target.write_bytes(data)
        return folder / "set", options
    folder.mkdir(parents=True, exist_ok=True)
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", draw.choice((zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED))) as archive:
        for path, data in files.items():
            archive.writestr(path, data)
    found = stream.getvalue()
    (folder / "set.zip").write_bytes(flipped(draw, found) if draw.random() < 0.5 else found)
    return folder / "set.zip", options


def nine_of(level: int) -> str:
    """A line of YAML that names the one before nine times."""
    return f"{chr(98 + level)}: &{chr(98 + level)} [{','.join(['*' + chr(97 + level)] * 9)}]\n"


def runs(number: int, size: list[int], counts: Any) -> dict[str, Any]:
    """An object with a run-length mask."""
    return box(number, 1, segmentation={"size": size, "counts": counts})


SIZE = (40, 30)
HUGE = 100_000
#: What was found before, each a small tree; it stays found.
KNOWN: dict[str, dict[str, Content]] = {
    "a picture cut off": {"moth/a.png": data_of(".png", SIZE)[:900], "lamp/b.jpg": data_of(".jpg", SIZE)[:400]},
    "a picture with a wrong checksum": {"a.png": data_of(".png", SIZE).replace(b"IDAT", b"IDAX", 1)},
    "a label map cut off": {"images/a.jpg": SIZE, "masks/a.png": data_of(".png", levels(0, 1))[:60], "classes.json": {"0": {"name": "x"}}},
    "labels in another encoding": {"images/a.jpg": SIZE, "labels/a.txt": "0 .5 .5 .2 .2\n".encode("utf-16"), "data.yaml": b"names: [\xe9\xe8]"},
    "an encoding that does not exist": {"a.jpg": SIZE, "a.xml": "<?xml version='1.0' encoding='klingon'?><annotation/>"},
    "numbers over 64 bits": {"a.jpg": SIZE, "all.json": coco([image(2**70, "a.jpg")], [box(2**80, 2**70, more=2**90)])},
    "lists where numbers belong": {"a.jpg": SIZE, "all.json": coco([image([1], "a.jpg")], [box([2], [1], [3], iscrowd=[1])])},
    "a malformed skeleton": {
        "a.jpg": SIZE,
        "all.json": {
            **coco([image(1, "a.jpg")], [box(1, 1)]),
            "categories": [{"id": 1, "name": "m", "keypoints": ["a", 1], "skeleton": [[1], "x", [9, 9]]}],
        },
    },
    "a surrogate in a name": {"a.jpg": SIZE, "all.json": coco([image(1, "\ud800.jpg"), image(2, "a\u0000.jpg"), image(3, "a.jpg")], [box(1, 3)])},
    "a name longer than a path": {"a.jpg": SIZE, "all.json": coco([image(1, "x" * 4000 + ".jpg"), image(2, "a.jpg")], [box(1, 2)])},
    "yaml that unfolds": {
        "images/a.jpg": SIZE, "labels/a.txt": "0 .5 .5 .2 .2",
        "data.yaml": "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(map(nine_of, range(9))) + "names: *j\n",
    },
    "json nested without end": {"a.jpg": SIZE, "all.json": '{"images": [], "annotations": ' + "[" * 200_000, "a.json": "[" * 200_000},
    "xml with entities": {"a.jpg": SIZE, "a.xml": "<!DOCTYPE a [<!ENTITY b 'c'><!ENTITY d '&b;&b;&b;'>]><annotation>&d;</annotation>"},
    "a size that is no size": {"a.jpg": SIZE, "a.xml": xml("a.jpg").replace("<width>40</width>", "<width>1e400</width>")},
    "a claim of a hundred thousand pixels a side": {
        "a.jpg": SIZE, "all.json": coco([{**image(1, "a.jpg"), "width": HUGE, "height": HUGE}], [runs(1, [HUGE, HUGE], [0, HUGE * HUGE])]),
    },
    "run lengths that go on": {
        "a.jpg": SIZE,
        "all.json": coco([image(1, "a.jpg")], [runs(1, [30, 40], [0, 10**12]), runs(2, [30, 40], "P" * 500), runs(3, [-30, -40], [-5, 5])]),
    },
    "a table of anything": {"a.jpg": SIZE, "t.csv": "file,label,x1,y1,x2,y2\na.jpg,\"\n\",nan,inf,1e999,-\na.jpg\n" + "," * 5000},
    "json per picture that goes deep": {
        "a.jpg": SIZE, "a.json": {"a": [{"label": "m", "points": [[[[[[1]]]]]]}, {"label": [], "bbox": {"x": []}}]},
    },
}  # fmt: skip
