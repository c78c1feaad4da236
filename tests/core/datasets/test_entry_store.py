"""Datasets of very many images: images in a file, digests and rings the same as of few."""

from __future__ import annotations

import pickle
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry, StoredEntries
from varlen.datasets.formats import read_dataset
from varlen.draws import PartnerRing, Stream
from varlen.model.geometry import Size
from varlen.model.objects import make_objects

KEYS = st.lists(st.text(max_size=8) | st.sampled_from(["a", "a/b", "\udcff.jpg", "é", "\U0001f98b"]), max_size=30)
EMPTY = make_objects([], "", [], [], [], [], [], [], [])


@settings(max_examples=40)
@given(KEYS)
def test_images_in_a_file_are_found_by_their_keys(keys: list[str]) -> None:
    """In the order of their keys; of two with one key the later counts; a slice, an index and a copy in another process give the same."""
    written = [Entry(key, f"split {number % 3}", Size(number + 1, 1), EMPTY) for number, key in enumerate(keys)]
    stored = StoredEntries.write(written)
    expected = {entry.key: entry for entry in written}
    for each in (stored, pickle.loads(pickle.dumps(stored))):
        assert list(each) == sorted(expected)
        assert len(each) == len(expected)
        assert {key: each[key].size.width for key in each} == {key: entry.size.width for key, entry in expected.items()}
        assert sorted(each.place(key) for key in each) == sorted({each.place(key) for key in each})
        assert all(each.place(key) < each.places for key in each)
        for split, found in each.by_split().items():
            wanted = sorted(key for key, entry in expected.items() if entry.split == split)
            assert (list(found), found[1:], found[:-1]) == (wanted, wanted[1:], wanted[:-1])
            assert found[-1] == wanted[-1]
        assert "elsewhere\0" not in each


def test_images_in_a_file_are_the_same_dataset(survey_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    few = read_dataset(survey_folder)
    monkeypatch.setattr("varlen.datasets.entry.FEW", 3)
    many = read_dataset(survey_folder)
    assert isinstance(many.entries, StoredEntries)
    for each in (many, pickle.loads(pickle.dumps(many))):
        assert list(each.entries) == list(few.entries)
        assert {split: list(keys) for split, keys in each.by_split().items()} == few.by_split()
        assert each.digest() == few.digest()
        assert all(each.source_digest(key) == few.source_digest(key) for key in few.entries)
        assert all(each.entries.split_of(key) == few.entries[key].split for key in few.entries)
        with pytest.raises(KeyError):
            each.entries["images/elsewhere.jpg"]
        assert drawn(each) == drawn(few)


def drawn(dataset: Dataset) -> list[str]:
    peers = dataset.peers_of("train")
    assert len(peers) == len(dataset.by_split()["train"])
    return [peers.pick(Stream(3, key, variant, "four"), key) for key in dataset.by_split()["train"] for variant in range(6)]


def test_images_by_themselves_are_groups_of_one() -> None:
    names = sorted(f"night_{number:03d}.jpg" for number in range(40))
    one, other = PartnerRing({name: [name] for name in names}), PartnerRing.alone(names)
    for name in names:
        assert one.pick(Stream(1, name, 1, "m"), name) == other.pick(Stream(1, name, 1, "m"), name) != name
