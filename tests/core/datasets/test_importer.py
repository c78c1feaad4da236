"""Bringing datasets in: choices, streams of JSON, and files that mean harm."""

from __future__ import annotations

import io
import json
import os
import resource
import struct
import sys
import zipfile
import zlib
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from varlen.datasets.entry import Entry
from varlen.datasets.findings import check_dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.formats.json_stream import pieces
from varlen.datasets.image_files import decode, encode, read_header, upright_entry, upright_raster
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import Importer, preview_dataset
from varlen.datasets.ingest import IngestedImage
from varlen.datasets.sources import Folder
from varlen.datasets.splits import draw_splits
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Part, make_objects

from tests.conftest import write_coco

LISTS = frozenset(("images", "annotations"))


def taken(path: Path, **choices: object) -> tuple[list[Entry], Importer]:
    intake = Importer(path, ImportOptions(**choices))  # type: ignore[arg-type]
    return list(intake.images(lambda digest, data: None, lambda image: image.entry)), intake


def test_what_is_brought_in_is_what_is_read(survey_folder: Path) -> None:
    """Entry by entry, with the digest of the whole told from those of the parts."""
    from varlen.datasets.digests import whole_digest

    read = read_dataset(survey_folder)
    stored: dict[str, bytes] = {}
    intake = Importer(survey_folder, ImportOptions())
    brought = list(intake.images(stored.__setitem__, lambda image: image))
    assert {image.entry.key for image in brought} == set(read.entries)
    assert whole_digest(read.classes, read.skeleton.names, [(image.entry.split, image.digest) for image in brought]) == read.digest()
    assert all(stored[image.sha256] == read.source(image.entry.key) for image in brought)
    same = {finding.kind: finding.count for finding in check_dataset(read, ReadProblems(strict=False)) if not finding.kind.startswith("alike")}
    assert {finding.kind: finding.count for finding in intake.findings()} == same


def test_the_flawed_survey_s_faults_are_found_while_it_comes_in(flawed_folder: Path) -> None:
    entries, intake = taken(flawed_folder)
    found = {finding.kind: finding for finding in intake.findings()}
    assert {"missing-file", "damaged-file", "unknown-class", "box-outside", "box-empty", "duplicate-across-splits", "exif-turned"} <= set(found)
    assert not any("night_0004" in entry.key for entry in entries)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_labels_on_stored_pixels_are_set_upright_with_them(tmp_path: Path, orientation: int) -> None:
    """A lit square, its box, outline, mask and keypoint drawn on the stored pixels: all lie on the light once it is upright."""
    stored = np.zeros((40, 60, 3), np.uint8)
    stored[10:14, 50:56] = 255
    tags = Image.Exif()
    tags[0x0112] = orientation
    buffer = io.BytesIO()
    Image.fromarray(stored).save(buffer, "PNG", exif=tags)
    pixels = decode(buffer.getvalue(), "a.png")
    outline = np.array([[50, 10], [56, 10], [56, 14], [50, 14]], np.float64)
    objects = make_objects(["1"], "a.png", [0], [[50, 10, 56, 14]], [(Part(outline),)], [Mask(50, 10, np.ones((4, 6), np.uint8))],
                           [[[53.0, 12.0, 2.0]]], [False], [{}])  # fmt: skip
    entry = upright_entry(Entry("a.png", "train", Size(60, 40), objects), orientation)
    assert entry.size == (pixels.shape[1], pixels.shape[0])
    x0, y0, x1, y1 = entry.objects.boxes[0].astype(int)
    assert pixels[y0:y1, x0:x1].min() == 255
    assert int((pixels[:, :, 0] > 0).sum()) == (x1 - x0) * (y1 - y0) == 24
    x, y = entry.objects.keypoints[0, 0, :2]
    assert (x, y) == ((x0 + x1) / 2, (y0 + y1) / 2)
    assert entry.objects.outlines.points.min(axis=0).tolist() == [x0, y0]
    mask = entry.objects.masks[0]
    assert mask is not None
    assert mask.box == (x0, y0, x1, y1)
    assert np.array_equal(upright_raster(stored[:, :, 0], orientation), pixels[:, :, 0])


def test_the_choice_of_exif_decides_what_labels_mean(tmp_path: Path) -> None:
    pixels = np.zeros((40, 60, 3), np.uint8)
    tags = Image.Exif()
    tags[0x0112] = 6
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "JPEG", exif=tags)
    image = {"id": 1, "file_name": "a.jpg", "width": 60, "height": 40, "data": buffer.getvalue()}
    write_coco(tmp_path, [image], [{"id": 1, "image_id": 1, "category_id": 1, "bbox": [50, 10, 6, 4], "iscrowd": 0}])
    assert preview_dataset(tmp_path)["turned"] == 1
    entries, intake = taken(tmp_path)
    assert entries == []
    assert next(finding.kind for finding in intake.findings()) == "size-disagrees"
    (entry,), _ = taken(tmp_path, exif="stored")
    assert entry.size == (40, 60)
    assert entry.objects.boxes.tolist() == [[26.0, 50.0, 30.0, 56.0]]


@given(st.data())
def test_drawn_splits_divide_each_class_and_tear_nothing_apart(data: st.DataObject) -> None:
    strata = {name: [f"{name}{n}" for n in range(data.draw(st.integers(1, 40)))] for name in "abc"}
    keys = [key for members in strata.values() for key in members]
    clusters = {key: f"group {data.draw(st.integers(0, 12))}" for key in keys if data.draw(st.booleans())}
    shares = (data.draw(st.sampled_from([0.0, 0.1, 0.25])), data.draw(st.sampled_from([0.0, 0.2])))
    found = draw_splits(strata, clusters, shares, seed=5)
    assert set(found) == set(keys)
    for group in set(clusters.values()):
        assert len({found[key] for key, name in clusters.items() if name == group}) == 1
    if not clusters:
        for members in strata.values():
            assert sum(found[key] == "test" for key in members) == round(len(members) * shares[1])
            assert sum(found[key] == "validation" for key in members) == round(len(members) * shares[0])
    assert draw_splits({name: list(reversed(members)) for name, members in strata.items()}, {}, shares, 5) == draw_splits(strata, {}, shares, 5)


def test_equal_files_and_groups_stay_together(tmp_path: Path) -> None:
    """Forty images of ten clips, one picture twice under another clip's name."""
    images = []
    for number in range(40):
        pixels = np.full((8, 8, 3), 39 if number == 7 else number, np.uint8)
        images.append(
            {"id": number, "file_name": f"clip{number // 4}_frame{number}.png", "width": 8, "height": 8, "pixels": pixels, "lamp": number // 20}
        )
    write_coco(tmp_path, images, [])
    assert preview_dataset(tmp_path)["fields"] == ["lamp"]
    entries, intake = taken(tmp_path, splits="drawn", shares=(0.2, 0.2), groups="name:{group}_frame#")
    splits = {entry.key.split("/")[-1]: entry.split for entry in entries}
    for clip in range(10):
        assert len({split for name, split in splits.items() if name.startswith(f"clip{clip}_")}) == 1
    assert splits["clip1_frame7.png"] == splits["clip9_frame39.png"]
    assert not any(finding.kind == "duplicate-across-splits" for finding in intake.findings())
    assert {entry.group for entry in entries} == {f"clip{n}" for n in range(10)}
    assert {entry.group for entry in taken(tmp_path, groups="field:lamp")[0]} == {"0", "1"}
    for wrong in ("name:frame", "name:{group}*a*b*c*", "lamp"):
        with pytest.raises(DatasetError, match="import options"):
            ImportOptions(groups=wrong)


values = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
    max_leaves=8,
)


@settings(max_examples=40)
@given(st.lists(st.dictionaries(st.text(max_size=5), values, max_size=3), max_size=40), values, st.booleans())
def test_a_stream_of_json_gives_what_was_written(items: list[dict[str, object]], other: object, pretty: bool) -> None:
    """Pieces of a few bytes or of a megabyte, spaced or not."""
    import varlen.datasets.formats.json_stream as module

    text = json.dumps({"images": items, "else": other, "annotations": items[:3]}, indent=2 if pretty else None)
    with pytest.MonkeyPatch.context() as patch:
        for chunk, many in ((7, 1), (64, 16), (1 << 20, 1 << 16)):
            patch.setattr(module, "CHUNK", chunk)
            patch.setattr(module, "MANY", many)
            found = list(pieces(io.BytesIO(text.encode()), "a.json", LISTS))
            assert [value for name, value in found if name == "images"][1:] == items
            assert [value for name, value in found if name == "annotations"][1:] == items[:3]
            assert [value for name, value in found if name == "else"] == [other]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('{"images": [{"a": 1}', "ends too early"), ("[1, 2]", "expected an object"), ('{"images": {}}', "must be a list of objects"),
        ('{"images": [1]}', "must be a list of objects"),
        ('{"images": ' + "[" * 100_000, "nested too deeply"), ('{"a": ' + "[" * 100_000, "nested too deeply"), ("\xff\xfe", "not JSON"),
        ('{"images": [{"a": 1} {"a": 2}]}', "expected ','"), ('{"a" 1}', "expected ':'"),
    ],
)  # fmt: skip
def test_a_damaged_stream_says_where(text: str, says: str) -> None:
    with pytest.raises(DatasetError, match=f"^a.json: .*{says}"):
        list(pieces(io.BytesIO(text.encode("latin-1")), "a.json", LISTS))


def entry_named(name: str, data: bytes = b"x", mode: int = 0o100644) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        archive.writestr("images/a.png", encode(np.zeros((4, 4, 3), np.uint8), "png"))
        archive.writestr("labels/a.txt", b"")
        info = zipfile.ZipInfo(name)
        info.external_attr = mode << 16
        archive.writestr(info, data)
    return buffer.getvalue()


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (entry_named("../../out.txt"), "leads out of the archive"),
        (entry_named("/etc/out.txt"), "leads out of the archive"),
        (entry_named("a\\..\\..\\out.txt"), "leads out of the archive"),
        (entry_named("images/link.png", b"/etc/passwd", 0o120777), "is a link"),
    ],
    ids=["parents", "absolute", "backslashes", "link"],
)
def test_an_archive_that_leads_out_is_refused(tmp_path: Path, data: bytes, says: str) -> None:
    (tmp_path / "a.zip").write_bytes(data)
    with pytest.raises(DatasetError, match=says):
        preview_dataset(tmp_path / "a.zip")


def test_an_archive_that_swells_is_refused_before_it_does(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "a.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("images/a.png", b"\0" * (100 << 20))
        archive.writestr("labels/a.txt", b"")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(DatasetError, match="unpacks to 104857600 bytes, refused"):
        preview_dataset(tmp_path / "a.zip")
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 60_000  # kB


@pytest.mark.slow
def test_too_many_entries_are_refused_without_reading_them(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A directory of too many names, as a zip keeps it, written by hand so that it takes no time."""
    monkeypatch.setattr("varlen.datasets.archives.MOST_ENTRIES", 70_000)
    count = 70_001
    one = struct.pack("<4s4B4HL2L5H2L", b"PK\x01\x02", 20, 3, 20, 0, 0, 0, 0, 33, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0) + b"a"
    head = one * count
    end64 = struct.pack("<4sQ2H2L4Q", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, len(head), 0)
    locator = struct.pack("<4sLQL", b"PK\x06\x07", 0, len(head), 1)
    end = struct.pack("<4s4H2LH", b"PK\x05\x06", 0, 0, 0xFFFF, 0xFFFF, 0xFFFFFFFF, 0xFFFFFFFF, 0)
    (tmp_path / "a.zip").write_bytes(head + end64 + locator + end)
    with pytest.raises(DatasetError, match="70001 entries are more than"):
        preview_dataset(tmp_path / "a.zip")


def test_a_picture_that_claims_too_much_is_named_and_the_others_come_in(tmp_path: Path) -> None:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    huge = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">2I5B", 60_000, 60_000, 8, 2, 0, 0, 0)) + chunk(b"IEND", b"")
    good = {"id": 1, "file_name": "good.png", "width": 4, "height": 4, "pixels": np.zeros((4, 4, 3), np.uint8)}
    write_coco(tmp_path, [good, {"id": 2, "file_name": "huge.png", "width": 60_000, "height": 60_000, "data": huge}], [])
    entries, intake = taken(tmp_path)
    assert [entry.key for entry in entries] == ["images/train/good.png"]
    said = [example for finding in intake.findings() for example in finding.examples]
    assert any("huge.png: claims 60000×60000 px" in line for line in said)


@pytest.mark.skipif(sys.platform != "linux", reason="file names are bytes here")
def test_names_with_line_breaks_and_bytes_that_are_no_text(tmp_path: Path) -> None:
    """They come in like others; nothing that is printed or stored of them breaks."""
    folder = tmp_path / "set" / "train" / "moth"
    folder.mkdir(parents=True)
    picture = encode(np.zeros((4, 4, 3), np.uint8), "png")
    for name in (b"line\nbreak.png", b"not \xff\xfe text.png", b"plain.png"):
        with open(os.path.join(os.fsencode(folder), name), "wb") as out:
            out.write(picture + name)
    other = tmp_path / "set" / "train" / "lamp" / "a.png"
    other.parent.mkdir()
    other.write_bytes(picture)
    entries, intake = taken(tmp_path / "set")
    assert len(entries) == 4
    assert read_dataset(tmp_path / "set").digest().startswith("sha256:")
    json.dumps([finding.to_json() for finding in intake.findings()])
    assert read_header(picture, "a").upright == (4, 4)  # type: ignore[union-attr]


def keep_in(folder: Path, digest: str, data: bytes) -> None:
    (folder / digest).write_bytes(data)


def test_two_processes_bring_in_the_same(flawed_folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("varlen.datasets.importer.WORTH_PROCESSES", 1)
    monkeypatch.setattr("varlen.datasets.importer.BATCH", 4)
    found = []
    for workers in (1, 2):
        folder = tmp_path / str(workers)
        folder.mkdir()
        intake = Importer(flawed_folder, ImportOptions(splits="drawn", seed=3))
        brought = [(image.entry.key, image.entry.split, image.digest) for image in intake.images(partial(keep_in, folder), itself, workers=workers)]
        found.append((brought, [finding.to_json() for finding in intake.findings()], sorted(path.name for path in folder.iterdir())))
    assert found[0] == found[1]


def itself(image: IngestedImage) -> IngestedImage:
    return image


def test_names_that_lead_out_of_the_folder_are_no_files(tmp_path: Path) -> None:
    (tmp_path / "in" / "images").mkdir(parents=True)
    (tmp_path / "secret.json").write_text("{}")
    (tmp_path / "in" / "images" / "a.jpg").write_bytes(b"")
    (tmp_path / "in" / "own.json").symlink_to("images/a.jpg")
    (tmp_path / "in" / "theirs.json").symlink_to(tmp_path / "secret.json")
    (tmp_path / "in" / "out").symlink_to(tmp_path)
    files = Folder(tmp_path / "in")
    assert files.has("images/a.jpg")
    assert files.has("own.json")
    outside = ("../secret.json", "images/../../secret.json", str(tmp_path / "secret.json"), "theirs.json", "out/secret.json")
    for name in (*outside, "images", "", ".", "a\0b", "\ud800"):
        assert not files.has(name), name
    assert files.near(".json", ("images", "out")) == ["own.json"]
