"""Datasets of very many images: texts side by side, images in a file, digests and rings the same as of few."""

from __future__ import annotations

import itertools
import pickle
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry_store import StoredEntries
from varlen.datasets.formats import read_dataset
from varlen.datasets.packed_strings import PackedStrings
from varlen.draws import PartnerRing, Stream

TEXTS = st.lists(st.text(st.characters(exclude_characters="\0"), max_size=12), max_size=30)


@given(TEXTS, st.text(max_size=12), st.booleans())
def test_texts_side_by_side_are_those_put_in(texts: list[str], other: str, long: bool) -> None:
    texts = [text + "x" * 300 * long for text in texts]
    keys = PackedStrings(texts)
    assert list(keys) == texts
    assert keys[1:3] == texts[1:3]
    order = keys.order().tolist()
    assert [keys[place] for place in order] == sorted(texts)
    assert all(a < b for a, b in itertools.pairwise(order) if texts[a] == texts[b])
    ranked = keys.taken(order)
    assert all(ranked[ranked.find(text)] == text for text in texts)
    assert (ranked.find(other) >= 0) == (other in texts)


def test_images_in_a_file_are_the_same_dataset(survey_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    few = read_dataset(survey_folder)
    monkeypatch.setattr("varlen.datasets.entry_store.FEW", 3)
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
