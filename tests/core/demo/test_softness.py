"""The demo's own blur gives the very numbers of the library's, so that rendered pictures are the same everywhere."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage
from varlen.demo.scene import blurred


@pytest.mark.parametrize("edges", ["symmetric", "wrap"])
@pytest.mark.parametrize(
    ("shape", "sigma"), [((72, 96), 3.0), ((72, 96), (9, 1)), ((72, 96), (0.8, 9)), ((40, 1), (9, 0)), ((30, 41, 3), (0.55, 0.55, 0)), ((20, 9), 5.0)]
)
def test_the_same_numbers_as_the_library_s(shape: tuple[int, ...], sigma: float | tuple[float, ...], edges: str) -> None:
    values = np.random.default_rng(len(shape)).standard_normal(shape)
    expected = ndimage.gaussian_filter(values, sigma, mode="wrap" if edges == "wrap" else "reflect")
    found = blurred(values, sigma, edges)  # type: ignore[arg-type]
    # Where multiplying and adding is one instruction, as in the library on some processors, the last digit may differ.
    np.testing.assert_allclose(found, expected, rtol=0, atol=1e-12)
