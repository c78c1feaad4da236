"""Reading recipes: how labels of a layout stand in its files, said once in a small JSON file (`*.reading.json`).

The folder holds the recipes that ship with the package, one file each, by the names they are recognised under. Paths are patterns: `{name}`,
`{split}`, `{class}` and other names match one part of a path, `{any}` anything, `*` anything within a part. Fields are columns of a text or a
table, or JMESPath expressions of a JSON or XML record; see docs/recipes.md.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from functools import cache, lru_cache
from importlib.resources import files as resources
from pathlib import Path
from typing import Annotated, Any, Literal

import jmespath
from jmespath.exceptions import JMESPathError
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from varlen.errors import DatasetError

SUFFIX = ".reading.json"
#: No recipe is longer, bytes.
LONGEST = 100_000
#: Of one part of a path so many names at most, and `{any}` so often: with few of them, trying all ways to match stays short.
NAMES_IN_PART, ANY_IN_PATTERN = 3, 2
_NAME = re.compile(r"(\{[a-z_]\w*\}|\*)")


class _Said(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


def _checked_pattern(text: str) -> str:
    pattern(text)
    return text


def _checked_field(text: str) -> str:
    compiled(text)
    return text


PathPattern = Annotated[str, Field(min_length=1, max_length=300)]
FieldName = Annotated[str, Field(min_length=1, max_length=300)]


class LabelFiles(_Said):
    """One kind of label files, and how rows stand in them.

    columns: names of the columns of a text, between spaces: `_` for one that is ignored, `*` at the end for any more; without them the first
    line of a table names them. separator: between columns, any white space if not given. skip_lines: lines before the first row; comment: how
    lines begin that are none. block: lines of a field each before the rows of a picture, `count` for how many rows follow. each: the records
    of a JSON or XML file, a JMESPath expression; of JSON lines every line is one. join, by: files whose rows with the same value of the field
    `by` are one row.
    """

    files: PathPattern = "{any}"
    columns: str = Field(default="", max_length=4000)
    separator: str | None = Field(default=None, min_length=1, max_length=4)
    skip_lines: int = Field(default=0, ge=0, le=1000)
    comment: str = Field(default="", max_length=20)
    block: tuple[FieldName, ...] = ()
    each: FieldName = "@"
    join: tuple[LabelFiles, ...] = Field(default=(), max_length=20)
    by: FieldName = "id"

    _pattern = field_validator("files")(_checked_pattern)
    _field = field_validator("each")(_checked_field)

    @property
    def names(self) -> list[str]:
        """The columns' names in order."""
        return self.columns.split()


class ClassNames(_Said):
    """Where the names of classes stand: a file of rows with a number and a name."""

    files: PathPattern
    columns: str = "name"
    separator: str | None = None
    each: FieldName = "@"
    number: FieldName = "number"
    name: FieldName = "name"

    _pattern = field_validator("files")(_checked_pattern)


class Keypoints(_Said):
    """Names of keypoints, and the field of their places: pairs, threes with a visibility, or flat numbers. visible: a list of visibilities."""

    names: tuple[str, ...] = Field(min_length=1, max_length=1000)
    points: FieldName | tuple[tuple[FieldName, ...], ...]
    visible: FieldName = ""


class Pixels(_Said):
    """Pictures whose pixels say which object they belong to.

    ids: what red, green and blue count for in an object's id, or `any` for one object of all that is not black; background: ids of none;
    match: the field of an object in the labels that holds its id, "" where every id is an object of the class in `class`.
    """

    files: PathPattern
    ids: tuple[int, int, int] | Literal["any"] = (1, 256, 65536)
    background: tuple[int, ...] = (0,)
    match: str = ""

    _pattern = field_validator("files")(_checked_pattern)


class Recipe(_Said):
    """Where things stand in the files of a layout. Fields are described in docs/recipes.md."""

    varlen_reading: Literal[1]
    name: str = Field(min_length=1, max_length=200)
    pictures: PathPattern | tuple[PathPattern, ...] = "{any}"
    labels: tuple[LabelFiles, ...] = ()
    side: tuple[PathPattern, ...] = ()
    picture: str = Field(default="", max_length=300)
    objects: str = Field(default="", max_length=300)
    box: FieldName | tuple[FieldName, FieldName, FieldName, FieldName] | None = None
    box_form: Literal["corners", "corner-size", "centre-size"] = "corners"
    unit: Literal["pixels", "shares"] = "pixels"
    first_pixel: Literal[0, 1] = 0
    corners: FieldName | tuple[FieldName, ...] | None = None
    turned: tuple[FieldName, FieldName, FieldName, FieldName, FieldName] | None = None
    angle: Literal["degrees", "radians"] = "degrees"
    outline: FieldName | tuple[FieldName, FieldName] | None = None
    circle: tuple[FieldName, FieldName, FieldName] | None = None
    keypoints: Keypoints | None = None
    pixels: Pixels | None = None
    class_: FieldName | None = Field(default=None, alias="class")
    classes: ClassNames | dict[str, str] | tuple[str, ...] = Field(default_factory=dict, union_mode="left_to_right")
    image_class: FieldName | None = None
    one_hot: Literal["*"] | tuple[str, ...] | None = None
    split: FieldName | None = None
    splits: dict[str, str] | PathPattern = Field(default_factory=dict)
    skip: dict[str, tuple[Any, ...]] = Field(default_factory=dict)

    @model_validator(mode="before")
    @classmethod
    def _together(cls, values: Any) -> Any:
        """What is said of one kind of label files may stand without a list, and `each` beside them."""
        if not isinstance(values, Mapping):
            return values
        made = dict(values)
        labels = made.get("labels", [])
        kinds = [dict(each) if isinstance(each, Mapping) else each for each in ([labels] if isinstance(labels, Mapping) else labels)]
        for kind in kinds:
            if isinstance(kind, dict):
                if "each" in made:
                    kind.setdefault("each", made["each"])
                for word in ("picture", "objects"):
                    if word in kind:
                        made.setdefault(word, kind.pop(word))
        made.pop("each", None)
        made["labels"] = kinds
        return made

    @field_validator("pictures", "side", "splits")
    @classmethod
    def _patterns(cls, value: Any) -> Any:
        for each in (value,) if isinstance(value, str) else () if isinstance(value, dict) else value:
            pattern(each)
        return value

    @model_validator(mode="after")
    def _complete(self) -> Recipe:
        for expression in self.expressions():
            compiled(expression)
        shapes = (self.box, self.corners, self.turned, self.outline, self.circle, self.keypoints, self.pixels)
        if not self.labels and self.pixels is None:
            raise ValueError("says nothing of label files: `labels` or `pixels` is needed")
        if not any(shapes) and self.image_class is None and self.one_hot is None:
            raise ValueError("reads no labels: one of `box`, `corners`, `turned`, `outline`, `circle`, `keypoints`, `pixels`, `image_class` "
                             "and `one_hot` is needed")  # fmt: skip
        if any(shapes) and self.class_ is None:
            raise ValueError("`class` is needed: a field, a {name} of a path, or a name in quotes such as \"'moth'\"")
        return self

    def expressions(self) -> list[str]:
        """Every field of objects and pictures that is read."""
        found: list[str] = [text for text in (self.objects, self.class_, self.image_class, self.split) if text]
        if self.picture and "{" not in self.picture:
            found.append(self.picture)
        for each in (self.box, self.corners, self.turned, self.outline, self.circle):
            found += [each] if isinstance(each, str) else each or []
        if self.keypoints is not None:
            points = self.keypoints.points
            found += [points] if isinstance(points, str) else [name for point in points for name in point]
            found += [self.keypoints.visible] if self.keypoints.visible else []
        if self.pixels is not None and self.pixels.match:
            found.append(self.pixels.match)
        return [*found, *self.skip]

    def to_json(self) -> dict[str, Any]:
        """As a recipe's file holds it, without what is as usual."""
        return self.model_dump(mode="json", by_alias=True, exclude_defaults=True) | {"varlen_reading": 1}

    def digest(self) -> str:
        """SHA-256 of the recipe, in hex: the same for the same meaning, however the file is spaced."""
        return hashlib.sha256(json.dumps(self.to_json(), sort_keys=True, separators=(",", ":")).encode()).hexdigest()

    @classmethod
    def parse(cls, values: Any, place: str = "reading recipe") -> Recipe:
        """From plain values. Raises `DatasetError` naming the field."""
        if not isinstance(values, Mapping) or "varlen_reading" not in values:
            raise DatasetError(f'{place}: no reading recipe: "varlen_reading": 1 is missing')
        try:
            return cls.model_validate(dict(values))
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise DatasetError(f"{place}: {where + ': ' if where else ''}{first['msg'].removeprefix('Value error, ')}") from None
        except RecursionError:
            raise DatasetError(f"{place}: is nested too deeply") from None


def kept_recipe(values: Any) -> Recipe:
    """A recipe as records keep it, with its digest, or by itself. Raises `DatasetError` where the digest is another's."""
    if not isinstance(values, Mapping) or "recipe" not in values:
        return Recipe.parse(values)
    recipe = Recipe.parse(values["recipe"])
    if values.get("sha256") not in (None, recipe.digest()):
        raise DatasetError(f"reading recipe {recipe.name!r}: its digest is not the one that was kept with it")
    return recipe


def read_recipe(path: Path) -> Recipe:
    """A recipe's file. Raises `DatasetError` naming it and the field."""
    try:
        data = path.read_bytes()
        if len(data) > LONGEST:
            raise DatasetError(f"{path}: {len(data)} bytes are too many for a reading recipe")
        return Recipe.parse(json.loads(data.decode("utf-8-sig")), str(path))
    except OSError as error:
        raise DatasetError(f"{path}: can't be read ({error.strerror})") from None
    except (ValueError, RecursionError) as error:
        raise DatasetError(f"{path}: not JSON ({str(error)[:100]})") from None


@cache
def shipped() -> dict[str, Recipe]:
    """The recipes of the package by their short names."""
    folder = resources(__name__)
    found = sorted((each.name.removesuffix(SUFFIX), each) for each in folder.iterdir() if each.name.endswith(SUFFIX))
    return {name: Recipe.parse(json.loads(each.read_text("utf-8")), name) for name, each in found}


@lru_cache(1000)
def pattern(text: str) -> re.Pattern[str]:
    """A path's pattern as a regular expression, in any case; folders above the first part may come before it. Raises `ValueError`."""
    for part in text.split("/"):
        if len(_NAME.findall(part)) > NAMES_IN_PART or re.search(r"\}\{|\*\*", part):
            raise ValueError(f"the pattern {text!r} has more than {NAMES_IN_PART} names in one part of the path, or names without anything between")
    if text.count("{any}") > ANY_IN_PATTERN or text.count("{") != len(re.findall(r"\{[a-z_]\w*\}", text)):
        raise ValueError(f"the pattern {text!r}: names are small letters in braces, {{any}} at most {ANY_IN_PATTERN} times")
    seen: set[str] = set()
    made = []
    for part in _NAME.split(text):
        name = part[1:-1]
        if not _NAME.fullmatch(part):
            made.append(re.escape(part))
        elif part == "*":
            made.append("[^/]*")
        elif name == "any":
            made.append(".*")
        elif name in seen:
            made.append(f"(?P={name})")
        else:
            seen.add(name)
            made.append(f"(?P<{name}>[^/]+)")
    above = "" if text.startswith("{any}") else "(?:.*?/)??"
    return re.compile(f"(?P<_above>{above}){''.join(made)}", re.IGNORECASE)


@lru_cache(4000)
def compiled(text: str) -> Any:
    """A JMESPath expression; None where the text is none and can only be a column's name. Raises `ValueError` where it must be one."""
    try:
        return jmespath.compile(text)
    except JMESPathError as error:
        if re.search(r"[\[\]|(]", text):
            raise ValueError(f"{text!r} is no JMESPath expression ({str(error).splitlines()[0][:100]})") from None
        return None
