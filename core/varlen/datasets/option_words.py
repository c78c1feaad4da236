"""Reading options as people write them: shares, pairs, tiles and groups in words. `name`: what the option is called where it was written."""

from __future__ import annotations

from collections.abc import Sequence

from varlen.errors import VarlenError


def shares(text: str, name: str) -> tuple[float, float]:
    """Shares of validation and test from training/validation/test, in percent or as parts of 1."""
    try:
        parts = [float(word) for word in text.split("/")]
    except ValueError:
        parts = []
    parts += [0.0] * (3 - len(parts)) if len(parts) == 2 else []
    if len(parts) != 3 or min(parts) < 0 or not (abs(sum(parts) - 100) < 1e-6 or abs(sum(parts) - 1) < 1e-6) or parts[0] <= 0:
        raise VarlenError(f"{name}: expected shares of training, validation and test such as 80/10/10, not {text!r}")
    total = sum(parts)
    return parts[1] / total, parts[2] / total


def names(given: Sequence[str] | str) -> tuple[str, ...]:
    """Names from A,B,C, or from a list of them."""
    return tuple(name.strip() for name in (given.split(",") if isinstance(given, str) else given) if name.strip())


def pairs(text: str, name: str) -> tuple[tuple[str, str], ...]:
    """Pairs of names from A:B,C:D."""
    found = []
    for part in filter(None, (part.strip() for part in text.split(","))):
        one, colon, other = part.partition(":")
        if not colon or not one.strip() or not other.strip():
            raise VarlenError(f"{name}: expected A:B,C:D, not {part!r}")
        found.append((one.strip(), other.strip()))
    return tuple(found)


def tile(text: str, name: str) -> tuple[int, int]:
    """Width and height from WIDTHxHEIGHT."""
    width, _, height = text.lower().replace("×", "x").partition("x")
    if not width.isdecimal() or not height.isdecimal():
        raise VarlenError(f"{name}: expected WIDTHxHEIGHT in px such as 1024x1024, not {text!r}")
    return int(width), int(height)


def group(text: str) -> str:
    """A group's origin as import options have it; a pattern may be written without its prefix."""
    return text if text in ("", "folder") or text.startswith(("field:", "name:")) else f"name:{text}"
