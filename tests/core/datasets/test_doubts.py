"""What may be meant otherwise is asked, in terminal, code and on screen alike, and read as the answer says."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image
from typer.testing import CliRunner
from varlen.cli.main import app
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import decode
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import Importer, preview_dataset
from varlen.errors import DatasetError, NeedsAnswer, ReadProblems

run = CliRunner()
RNG = np.random.default_rng(3)
PHOTO = RNG.integers(0, 256, (24, 32, 3), dtype=np.uint8)


def png(levels: Any, mode: str | None = None, kind: str = "PNG", **save: Any) -> bytes:
    stream = io.BytesIO()
    image = Image.fromarray(np.asarray(levels))
    (image.convert(mode) if mode else image).save(stream, kind, **save)
    return stream.getvalue()


def tiff(levels: Any, **save: Any) -> bytes:
    stream = io.BytesIO()
    tifffile.imwrite(stream, levels, **save)
    return stream.getvalue()


def write(folder: Path, files: dict[str, bytes | str]) -> Path:
    for path, content in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(content if isinstance(content, bytes) else content.encode())
    return folder


def asked(folder: Path, option: str, said: str) -> None:
    """The question stands in code, on import, in the terminal and in what the screen shows."""
    for read in (lambda: read_dataset(folder), lambda: Importer(folder, ImportOptions())):
        with pytest.raises(NeedsAnswer, match=said) as question:
            read()
        assert question.value.option == option
    assert option in preview_dataset(folder)["asks"]
    shown = run.invoke(app, ["export", str(folder), "--pipeline", "none.varlen.json", "--out", str(folder.parent / "out")])
    assert shown.exit_code != 0


FLAT = np.repeat(np.uint8([[0, 1, 2, 2]]), 8, axis=1).repeat(24, axis=0)


@pytest.mark.parametrize("flat", [png(FLAT, "P"), png(FLAT), png(FLAT > 0)])
@pytest.mark.parametrize("form", ["pictures", "class-folders"])
def test_label_maps_among_photographs(tmp_path: Path, flat: bytes, form: str) -> None:
    a, b = ("a/", "b/") if form == "class-folders" else ("", "")
    folder = write(tmp_path / "set", {f"{a}1.png": png(PHOTO), f"{b}2.png": png(PHOTO), f"{b}x.png": flat})
    asked(folder, "form", r"one of the 3 pictures looked at holds few flat levels.*x\.png.*--from " + form)
    assert len(read_dataset(folder, form=form).entries) == 3
    assert len(read_dataset(folder, options=ImportOptions(ignore=("x.png",)), form=form).entries) == 2


def test_gray_photographs_among_colored_ones_are_no_label_maps(tmp_path: Path) -> None:
    folder = write(tmp_path / "set", {"1.png": png(PHOTO), "2.png": png(PHOTO[:, :, 0])})
    assert len(read_dataset(folder).entries) == 2
    alike = write(tmp_path / "flat", {"1.png": png(FLAT), "2.png": png(FLAT)})
    assert len(read_dataset(alike).entries) == 2


def test_masks_in_jpeg_are_read_by_their_nearer_end_or_asked_about(tmp_path: Path) -> None:
    shape = np.zeros((24, 32), np.uint8)
    shape[4:16, 5:20] = 255
    folder = write(tmp_path / "set", {"images/1.png": png(PHOTO), "masks/1.jpg": png(shape, kind="JPEG", quality=70)})
    asked(folder, "mask_class", "its masks are JPEG and hold nearly black and nearly white")
    found = read_dataset(folder, options=ImportOptions(mask_class="moth"))
    assert np.array_equal(found.label_map("images/1.png"), shape // 255)
    levels = write(tmp_path / "levels", {"images/1.png": png(PHOTO), "masks/1.jpg": png(FLAT * 40, kind="JPEG")})
    asked(levels, "form", "its label maps are JPEG, which changed their levels.*--from mask-pairs if every level is meant")
    read = read_dataset(levels, form="mask-pairs").label_map("images/1.png")
    assert read is not None
    assert np.array_equal(read, np.asarray(Image.open(levels / "masks/1.jpg")))


@pytest.mark.parametrize("kind", ["png", "tif"])
def test_masks_of_numbered_objects_are_asked_about(tmp_path: Path, kind: str) -> None:
    numbers = FLAT.astype(np.uint16) * 300
    data = png(numbers) if kind == "png" else tiff(numbers)
    folder = write(tmp_path / "set", {"images/1.png": png(PHOTO), f"masks/1.{kind}": data})
    asked(folder, "mask_class", "numbers up to 600, more than there are classes: they number objects")
    problems = ReadProblems()
    found = read_dataset(folder, options=ImportOptions(mask_class="moth"), problems=problems)
    assert np.array_equal(found.label_map("images/1.png"), FLAT > 0)
    assert "all of them are read as moth" in dict(problems.remarked)["numbered-masks"]


@pytest.mark.parametrize("stored", [np.repeat(FLAT[:, :, None], 3, axis=2), FLAT.astype(np.uint16)])
def test_levels_stored_as_color_or_at_16_bits_are_the_same_levels(tmp_path: Path, stored: Any) -> None:
    folder = write(tmp_path / "set", {"images/1.png": png(PHOTO), "masks/1.png": png(stored)})
    assert np.array_equal(read_dataset(folder).label_map("images/1.png"), FLAT)


DEEP = RNG.integers(0, 4000, (24, 32), dtype=np.uint16)
DEEP[0, 0] = 3999


@pytest.mark.parametrize(("name", "data"), [("1.png", png(DEEP)), ("1.tif", tiff(DEEP)), ("1.tif", tiff(np.dstack([DEEP] * 3), photometric="rgb"))])
def test_12_bits_in_16_are_asked_about(tmp_path: Path, name: str, data: bytes) -> None:
    folder = write(tmp_path / "set", {name: data, "2.png": png(PHOTO)})
    asked(folder, "levels", r"levels up to 3,999 of 65,535.*nearly black \(15 of 255\); say --levels 0\.\.4095 if 12 bits are meant")
    read = read_dataset(folder, options=ImportOptions(levels="0..4095"))
    assert np.abs(decode(read.files.read(name), name)[:, :, 0] - DEEP / 4095 * 255).max() <= 0.5
    dark = read_dataset(folder, options=ImportOptions(levels="0..65535"))
    assert decode(dark.files.read(name), name).max() <= 16
    assert decode(read.files.read("2.png"), "2.png").tolist() == PHOTO.tolist()


def test_16_bits_that_are_used_are_read(tmp_path: Path) -> None:
    read_dataset(write(tmp_path / "set", {"1.png": png(DEEP * 16)}))


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
@pytest.mark.parametrize("extra", [["unspecified"], ["unspecified", "unspecified"]])
def test_more_bands_than_color_has_are_refused_until_it_is_said(tmp_path: Path, dtype: Any, extra: list[str]) -> None:
    levels = RNG.integers(0, np.iinfo(dtype).max, (24, 32, 3 + len(extra)), dtype=dtype)
    folder = write(tmp_path / "set", {"1.tif": tiff(levels, photometric="rgb", extrasamples=extra)})
    with pytest.raises(DatasetError, match=rf"1\.tif: .*{3 + len(extra)} bands.* --levels .*bands"):
        read_dataset(folder).pixels("1.tif")
    read = read_dataset(folder, options=ImportOptions(levels="bands")).pixels("1.tif")
    assert np.array_equal(read, levels[:, :, :3] >> (8 * (np.dtype(dtype).itemsize - 1)))


def line(count: int, size: int) -> str:
    points = " ".join(f"{0.3 + 0.01 * n} {0.4 + 0.01 * n}" + (f" {n % 3}" if size == 3 else "") for n in range(count))
    return f"0 0.4 0.5 0.4 0.3 {points}\n"


@pytest.mark.parametrize(("count", "size"), [(1, 3), (4, 3), (5, 3), (17, 3), (3, 2), (4, 2)])
def test_keypoints_without_their_number_are_asked_about(tmp_path: Path, count: int, size: int) -> None:
    folder = write(tmp_path / "set", {"images/1.png": png(PHOTO), "labels/1.txt": line(count, size) * 2})
    asked(folder, "form", f"no kpt_shape says what they are.*--from yolo-keypoints if they are a box and {count} keypoints")
    read = read_dataset(folder, form="yolo-keypoints")
    assert len(read.skeleton.names) == count
    assert read.entries["images/1.png"].objects.boxes[0].tolist() == pytest.approx([0.2 * 32, 0.35 * 24, 0.6 * 32, 0.65 * 24])
    told = write(folder, {"data.yaml": f"names: [moth]\nkpt_shape: [{count}, {size}]\n"})
    assert len(read_dataset(told).skeleton.names) == count


def test_outlines_are_no_keypoints(tmp_path: Path) -> None:
    rings = "0 0.1 0.1 0.5 0.1 0.5 0.6 0.1 0.6 0.3 0.7\n0 0.6 0.2 0.9 0.2 0.9 0.9 0.6 0.9 0.7 0.5\n"
    folder = write(tmp_path / "set", {"images/1.png": png(PHOTO), "labels/1.txt": rings})
    assert len(read_dataset(folder).entries["images/1.png"].objects) == 2
    with pytest.raises(DatasetError, match="how many keypoints its lines hold is not said"):
        read_dataset(folder, form="yolo-keypoints")


@pytest.mark.parametrize(
    "files",
    [
        {"images/1.png": png(PHOTO), "images/2.png": png(PHOTO), "labels/1.txt": "0 0.5 0.5 0.2 0.2\n", "labels/2.txt": "",
         "val.txt": "images/1.png\n", "data.yaml": "names: [moth]\nval: val.txt\n"},
        {"JPEGImages/1.png": png(PHOTO), "JPEGImages/2.png": png(PHOTO), "ImageSets/Main/val.txt": "1\n", **{
            f"Annotations/{n}.xml": f"<annotation><filename>{n}.png</filename><size><width>32</width><height>24</height></size></annotation>"
            for n in (1, 2)}},
    ],
)  # fmt: skip
def test_pictures_that_no_list_names_are_said(tmp_path: Path, files: dict[str, bytes | str]) -> None:
    problems = ReadProblems()
    read = read_dataset(write(tmp_path / "set", files), problems=problems)
    assert sorted(entry.split for entry in read.entries.values()) == ["train", "validation"]
    assert "1 picture is in no list of a split and is read as train: " in dict(problems.remarked)["unlisted"]


def test_a_mask_without_a_picture_is_named(tmp_path: Path) -> None:
    folder = write(tmp_path / "set", {"images/1.png": png(PHOTO), "masks/1.png": png(FLAT), "masks/2.png": png(FLAT)})
    with pytest.raises(DatasetError, match=r"masks/2\.png: there is no picture of the same name"):
        read_dataset(folder)


@pytest.mark.parametrize("classes", [1, 10])
def test_one_percent_of_a_hundred_is_one_image(tmp_path: Path, classes: int) -> None:
    folder = write(tmp_path / "set", {f"c{n % classes}/{n}.png": png(np.full((4, 4, 3), n, np.uint8)) for n in range(100)})
    options = ImportOptions(form="class-folders", splits="drawn", shares=(0.01, 0.0))
    assert {split: each["images"] for split, each in read_dataset(folder, options=options).counts().items()} == {"train": 99, "validation": 1}
