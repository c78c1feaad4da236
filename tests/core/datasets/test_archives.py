"""Datasets in archives: the same as in their folder, however they were packed; what leads out of one or unpacks to too much is refused."""

from __future__ import annotations

import gzip
import io
import pickle
import tarfile
from pathlib import Path

import pytest
import varlen as v
from varlen.datasets import archives
from varlen.datasets.sources import open_files
from varlen.errors import DatasetError


@pytest.mark.parametrize(("ending", "mode"), [("tar", "w"), ("tar.gz", "w:gz"), ("tgz", "w:gz"), ("tar.bz2", "w:bz2"), ("tar.xz", "w:xz")])
def test_a_tar_is_what_its_folder_is(survey_folder: Path, tmp_path: Path, ending: str, mode: str) -> None:
    path = tmp_path / f"night one.{ending}"
    with tarfile.open(path, mode) as archive:  # type: ignore[call-overload]
        archive.add(survey_folder, "wrapping")
    packed, plain = v.read_dataset(path), v.read_dataset(survey_folder)
    assert packed.name == "night one"
    assert packed.digest() == plain.digest()
    files = pickle.loads(pickle.dumps(open_files(path)))
    assert files.read("annotations/train.json") == (survey_folder / "annotations" / "train.json").read_bytes()
    with pytest.raises(DatasetError, match="has no entry 'nothing'"):
        files.read("nothing")


def tarred(path: Path, name: str, kind: bytes = tarfile.REGTYPE, data: bytes = b"x") -> Path:
    with tarfile.open(path, "w") as archive:
        info = tarfile.TarInfo(name)
        info.type, info.size, info.linkname = kind, len(data) if kind == tarfile.REGTYPE else 0, "/etc/passwd"
        archive.addfile(info, io.BytesIO(data))
    return path


def test_hostile_tars_are_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for place, (name, kind, says) in enumerate(
        [
            ("../a.jpg", tarfile.REGTYPE, "leads out"),
            ("/a.jpg", tarfile.REGTYPE, "leads out"),
            ("a.jpg", tarfile.SYMTYPE, "is a link"),
            ("\udcff.jpg", tarfile.REGTYPE, "leads out"),
        ]
    ):
        with pytest.raises(DatasetError, match=says):
            open_files(tarred(tmp_path / f"{place}.tar", name, kind)).paths  # noqa: B018
    (tmp_path / "broken.tar.gz").write_bytes(gzip.compress(b"no tar at all" * 100)[:-9])
    with pytest.raises(DatasetError, match="not a tar that can be read"):
        open_files(tmp_path / "broken.tar.gz").paths  # noqa: B018
    monkeypatch.setattr(archives, "SMALL", 1 << 10)
    (tmp_path / "bomb.tar.gz").write_bytes(gzip.compress(bytes(8 << 20)))
    with pytest.raises(DatasetError, match="unpacks to more than"):
        open_files(tmp_path / "bomb.tar.gz").paths  # noqa: B018
    cut = tarred(tmp_path / "cut.tar", "a.jpg", data=bytes(9000))
    cut.write_bytes(cut.read_bytes()[:4000])
    with pytest.raises(DatasetError, match=r"not a tar that can be read|ends early"):
        open_files(cut).read("a.jpg")
    (tmp_path / "moths.7z").write_bytes(b"7z")
    with pytest.raises(DatasetError, match=r"unpack it with: 7z x moths\.7z"):
        open_files(tmp_path / "moths.7z")
