"""Classes are told apart by their colors, also by color-blind people; the screens use the same colors."""

from __future__ import annotations

import re

import numpy as np
import pytest
from varlen.render.contact_sheet import CLASS_COLORS

from tests.conftest import PROJECT

#: What is left of linear red, green and blue to people without one kind of cones (Machado, Oliveira and Fernandes, 2009, severity 1).
VISIONS = {
    "all cones": np.eye(3),
    "no long": np.array([[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]]),
    "no middle": np.array([[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]]),
    "no short": np.array([[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]]),
}
#: Linear light to the responses of cones, and these to lightness and two opponent axes (Ottosson, 2020).
TO_CONES = np.array(
    [[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566], [0.0883024619, 0.2817188376, 0.6299787005]]
)
TO_LAB = np.array(
    [[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099], [0.0259040371, 0.7827717662, -0.8086757660]]
)


@pytest.mark.parametrize("vision", VISIONS.values(), ids=VISIONS)
def test_any_two_of_sixteen_differ(vision: np.ndarray) -> None:
    levels = np.array(CLASS_COLORS) / 255
    light = np.where(levels <= 0.04045, levels / 12.92, ((levels + 0.055) / 1.055) ** 2.4)
    lab = np.cbrt(np.clip(light @ vision.T, 0, 1) @ TO_CONES.T) @ TO_LAB.T
    distances = np.linalg.norm(lab[:, None] - lab[None], axis=2) + np.eye(len(lab))
    assert len(lab) == 16
    assert distances.min() > 0.06


def test_the_screens_use_the_same_colors() -> None:
    text = (PROJECT / "web" / "src" / "picture" / "draw-labels.ts").read_text()
    listed = re.search(r"CLASS_COLORS = \[(.*?)\]", text, re.S)
    assert listed is not None
    assert re.findall(r"#[0-9a-f]{6}", listed[1]) == ["#{:02x}{:02x}{:02x}".format(*color) for color in CLASS_COLORS]
