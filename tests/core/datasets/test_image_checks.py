"""What decoding shows, by hand: levels, likeness in bits, damage."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from varlen.datasets.findings.checks import ALIKE, ImageChecks, ScannedImage, likeness_hash, scan_file, scan_image
from varlen.datasets.image_files import encode


def test_levels_are_counted_by_channel() -> None:
    pixels = np.zeros((2, 3, 3), np.uint8)
    pixels[0, :, 0] = 255
    pixels[1, 1] = (0, 7, 9)
    found = scan_image(encode(pixels, "png"), "a")
    assert (found.size, found.error) == ((3, 2), "")
    counts = [{level: int(count) for level, count in enumerate(channel) if count} for channel in found.levels]
    assert counts == [{0: 3, 255: 3}, {0: 5, 7: 1}, {0: 5, 9: 1}]


def test_the_fingerprint_says_which_neighbour_is_lighter() -> None:
    """Nine columns of eight rows: every pixel is one mean. One bit for each pair of neighbours, the first pair the highest bit."""
    rising = np.repeat((np.arange(9, dtype=np.uint8) * 20)[None, :, None], 8, axis=0).repeat(3, axis=2)
    assert likeness_hash(rising) == 2**64 - 1
    assert likeness_hash(rising[:, ::-1]) == 0
    one = np.zeros((8, 9, 3), np.uint8)
    one[0, 1] = 200
    assert likeness_hash(one) == 1 << 63  # lighter than its left neighbour; its right one is darker
    one[0, 1], one[7, 8] = 0, 200
    assert likeness_hash(one) == 1


def print_of(bits: int) -> ScannedImage:
    return ScannedImage((9, 8), bits)


def said(*prints: tuple[str, str, str, int]) -> dict[str, list[str]]:
    checks = ImageChecks()
    for key, split, digest, bits in prints:
        checks.add(key, split, digest, print_of(bits))
    return {finding.kind: finding.examples for finding in checks.findings()}


@pytest.mark.parametrize(
    ("bits", "alike"), [(0, True), (0b111, True), (0b1111, False), (1 << 63 | 1 << 31 | 1, True), (1 << 63 | 1 << 40 | 1 << 20 | 1, False)]
)
def test_up_to_three_bits_apart_is_alike(bits: int, alike: bool) -> None:
    assert bits.bit_count() <= ALIKE or not alike
    assert said(("a", "train", "1", 0), ("b", "train", "2", bits)) == ({"alike": ["a ~ b"]} if alike else {})


def test_each_of_many_alike_is_named_once_and_splits_are_told_apart() -> None:
    found = said(("a", "train", "1", 0), ("b", "train", "2", 1), ("c", "test", "3", 2), ("d", "test", "4", 4))
    assert found == {"alike-across-splits": ["a ~ c", "a ~ d"], "alike": ["a ~ b"]}
    # Equal files are the business of another check.
    assert said(("a", "train", "1", 0), ("b", "test", "1", 0)) == {}


def test_damaged_and_missing_files_are_named_and_count_nowhere(tmp_path: Path) -> None:
    data = encode(np.random.default_rng(0).integers(0, 256, (20, 20, 3)).astype(np.uint8), "png")
    (tmp_path / "cut.png").write_bytes(data[: len(data) // 2])
    (tmp_path / "whole.png").write_bytes(data)
    checks = ImageChecks()
    for name in ("cut.png", "gone.png", "whole.png"):
        checks.add(name, "train", name, scan_file((str(tmp_path / name), name)))
    (finding,) = checks.findings()
    assert (finding.kind, finding.count, finding.places) == ("damaged-file", 2, [("cut.png", ""), ("gone.png", "")])
    assert finding.examples[1] == "gone.png: its file is gone (No such file or directory)"
    assert int(checks.levels["train"].sum()) == 3 * 400
