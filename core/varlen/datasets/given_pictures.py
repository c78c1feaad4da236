"""Pictures as people hold them: arrays, files, pictures of an imaging library, tensors. All become (H, W, 3) or (H, W, 1) uint8."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_checks import checked_image, picture_size
from varlen.errors import ArrayError, DatasetError
from varlen.model.geometry import Size


def given_array(image: Any, name: str = "image") -> Any:
    """The array of any object that holds one, not checked: of a path the picture in the file, upright, (H, W, 3) uint8.

    Raises `ArrayError` for a picture of an imaging library that is neither color nor gray, `DatasetError` for a file that can't be read.
    """
    if isinstance(image, np.ndarray):
        return image
    if isinstance(image, (str, os.PathLike)):
        from varlen.datasets.image_files import decode

        return decode(_data(image), os.fspath(image))
    if not _holds_array(image):
        return image
    if (mode := getattr(image, "mode", None)) is not None:
        if mode not in ("RGB", "L"):
            raise ArrayError(f'{name}: its mode is {mode!r}; write {name}.convert("RGB")')
        pixels = np.asarray(image)
        return pixels[:, :, None] if pixels.ndim == 2 else pixels
    try:
        return np.asarray(image)
    except (TypeError, ValueError, RuntimeError) as error:
        raise ArrayError(f"{name}: {type(image).__name__} gives no array ({str(error)[:120]})") from None


def given_picture(image: Any, name: str = "image") -> NDArray[np.uint8]:
    """A picture (H, W, 3) or (H, W, 1) uint8. Raises as `given_array` and `checked_image` do."""
    return checked_image(given_array(image, name), name)


def given_size(image: Any, name: str) -> Size:
    """Width and height of a picture, px, without reading more than a file's beginning where that says it."""
    if isinstance(image, (str, os.PathLike)):
        from varlen.datasets.image_files import upright_size

        return upright_size(_data(image), os.fspath(image))
    if isinstance(image, np.ndarray):
        return Size(image.shape[1], image.shape[0])
    if getattr(image, "mode", None) is not None:
        return picture_size(image.size)
    shape = tuple(getattr(image, "shape", ()))
    return Size(int(shape[1]), int(shape[0])) if len(shape) == 3 else picture_size(given_picture(image, name))


class GivenPictures(Mapping[str, NDArray[np.uint8]]):
    """Pictures by their keys, each made an array when it is asked for, and not kept."""

    def __init__(self, given: Mapping[str, Any]) -> None:
        self._given = {key: image if _read_later(image) else given_picture(image, f"{key}: image") for key, image in given.items()}

    def __getitem__(self, key: str) -> NDArray[np.uint8]:
        """One picture. Raises `KeyError` for a key that isn't there, `ArrayError` for a picture that can't be right."""
        return given_picture(self._given[key], f"{key}: image")

    def __iter__(self) -> Iterator[str]:
        return iter(self._given)

    def __len__(self) -> int:
        return len(self._given)

    def size(self, key: str) -> Size:
        """Width and height of one picture, px."""
        return given_size(self._given[key], f"{key}: image")


def _read_later(image: Any) -> bool:
    return not isinstance(image, np.ndarray) and (isinstance(image, (str, os.PathLike)) or _holds_array(image))


def _holds_array(image: Any) -> bool:
    return hasattr(image, "__array__") or hasattr(image, "__array_interface__")


def _data(path: str | os.PathLike[str]) -> bytes:
    try:
        return Path(path).read_bytes()
    except OSError as error:
        raise DatasetError(f"{os.fspath(path)}: {error.strerror or error}") from None
