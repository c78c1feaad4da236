"""Dataset formats, one file each; recognised from the files themselves."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple, cast

from varlen.datasets.account import Account, Watched, account_of, could_hold
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry, entries_of
from varlen.datasets.formats import coco, folders, masks, oriented_text, picture_json, plain, table, taught, voc, yolo
from varlen.datasets.formats.arrays import NpzChannelsFirstWriter, NpzWriter, TarWriter
from varlen.datasets.formats.base import LabelCounts, Reading, Writer
from varlen.datasets.formats.coco_writing import CocoWriter
from varlen.datasets.formats.doubts import kinds_of, label_maps_among, part_of_the_levels
from varlen.datasets.formats.tree import Doubt, Signs, Tree
from varlen.datasets.formats.yolo_writing import YoloBoxesWriter, YoloKeypointsWriter, YoloOrientedWriter, YoloPolygonsWriter
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.prepared_files import PreparedFiles
from varlen.datasets.recipes import Recipe, shipped
from varlen.datasets.sources import LABEL_FILES, READABLE, Files, Folder, OneFile, SourceFiles, open_files
from varlen.datasets.splits import drawn_splits
from varlen.errors import DAMAGE, DatasetError, NeedsAnswer, ReadProblems
from varlen.stores import url_of

#: In the order in which they count where two fit equally well: the surest signs first.
READERS = {module.NAME: module for module in (coco, voc, oriented_text, yolo, picture_json, masks, table, folders, plain)}
WRITERS: dict[str, type[Writer]] = {
    cls.name: cls
    for cls in (CocoWriter, voc.VocWriter, YoloBoxesWriter, YoloPolygonsWriter, YoloKeypointsWriter, YoloOrientedWriter,
                oriented_text.OrientedTextWriter, folders.FoldersWriter, masks.MasksWriter, table.TableWriter, picture_json.PictureJsonWriter,
                plain.PicturesWriter, NpzWriter, NpzChannelsFirstWriter, TarWriter)
}  # fmt: skip
#: Other names that a format may be read by: they say what the numbers of its lines are.
READ_AS = dict.fromkeys(("yolo-polygons", "yolo-keypoints", "yolo-oriented"), yolo.NAME)

#: What a reader that stands for several writers is called.
_FAMILIES = {yolo.NAME: "YOLO"}


class FormatFacts(NamedTuple):
    """A dataset format for people: its word in commands and files, its title, and what can be done with it.

    convention: how labels are read, "" for a format that is only written; layout: where pictures and labels are
    in a written dataset, as Markdown; coded: whether pictures are coded as JPEG, PNG or WebP, or are arrays.
    """

    name: str
    title: str
    reads: bool
    writes: bool
    coded: bool
    convention: str
    layout: str
    holds: list[str]


def catalogue() -> list[FormatFacts]:
    """Every format that is read or written: the one list that screens, commands, importer and READMEs show."""
    names = dict.fromkeys((*READERS, *WRITERS))
    return [
        FormatFacts(name, title_of(name, reading=name not in WRITERS), name in READERS, name in WRITERS, name not in WRITERS or WRITERS[name].coded,
                    READERS[name].CONVENTION if name in READERS else "", WRITERS[name].layout if name in WRITERS else "",
                    sorted(WRITERS[name].holds) if name in WRITERS else [])
        for name in names
    ] + [FormatFacts(name, recipe.name, True, False, True, taught.CONVENTION, "", []) for name, recipe in shipped().items()]  # fmt: skip


def title_of(name: str, reading: bool = False) -> str:
    """What people call a format. reading: as one to be read, where one reader stands for several writers."""
    if name in shipped():
        return shipped()[name].name
    return _FAMILIES[name] if reading and name in _FAMILIES else taught.TITLE if name == taught.NAME else WRITERS[name].title


class Recognised(NamedTuple):
    """A dataset on its way in: its format, its files as they are to be read, the reading, and what spoke for the format.

    recipe: the reading recipe it is read by, if it is; doubts: by the option that answers it, what is to be asked.
    """

    form: str
    files: Files
    reading: Reading
    why: list[str]
    account: Account
    recipe: Recipe | None = None
    doubts: Mapping[str, Doubt] = MappingProxyType({})


def open_dataset(path: Path | str, options: ImportOptions | None = None, problems: ReadProblems | None = None, ask: bool = True) -> Recognised:
    """Begin to read a dataset from a folder, a zip, a picture or a file of labels.

    options: how it is to be read, `form` overrides recognition; problems: collects what can't be read; without it the
    first such thing raises `DatasetError`; ask: raise `NeedsAnswer` where files that could hold labels are not read.
    """
    path, options = Path(path), options or ImportOptions()
    problems = problems or ReadProblems()
    source = open_files(path)
    watched = Watched(source)
    tree = Tree(cast(SourceFiles, watched), options.ignore)
    only = path.relative_to(source.root).as_posix() if path.suffix.lower() in LABEL_FILES and isinstance(source, Folder) else None
    form = READ_AS.get(options.form, options.form)
    if form and form not in (*READERS, *shipped(), taught.NAME):
        raise DatasetError(f"there is no dataset format {form!r} to read; known are {', '.join((*READERS, *READ_AS))}")
    why = [only] if only else []
    if form == taught.NAME and options.reading is None:
        raise DatasetError(f"{path}: which recipe is it read by? Name its file with --reading")
    if options.reading is not None:
        form = form or taught.NAME
    elif not form:
        form, why = (table.NAME if path.suffix.lower() in table.SUFFIXES else coco.NAME, why) if only else recognise(tree)
    watched.opened.clear()  # looking for its format has opened what is not of it
    try:
        recipe = options.reading or shipped().get(form)
        if recipe is not None:
            reading = taught.read(tree, problems, recipe)
        elif only and form in (coco.NAME, table.NAME):
            reading = READERS[form].read(tree, problems, options, only)
        else:
            reading = READERS[form].read(tree, problems, options)
        watched.notes = False
        account = account_of(tree, recipe.name if recipe is not None else title_of(form, reading=True), reading, watched.opened)
        if ask and account.question and not only and not isinstance(source, OneFile):
            unknown = form == plain.NAME and not options.form
            raise NeedsAnswer("ignore", f"{tree.files.label}: {_unknown(tree)}. {account.question}" if unknown else account.question)
        doubts = _doubts(tree, form, reading, options)
        if ask and doubts:
            option, doubt = next(iter(doubts.items()))
            raise NeedsAnswer(option, f"{tree.files.label}: {doubt}")
        skeleton, files = options.skeleton_of(reading.skeleton), prepared(source, reading, options)
        reading = replace(reading, skeleton=skeleton)
        if isinstance(files, PreparedFiles) and options.tile is not None:
            # Compiled loops are loaded only where objects have to be cut.
            from varlen.datasets.tiles import tiled

            reading, windows = tiled(reading, source, options.tile, options.overlap)
            files.windows = windows
    except DAMAGE as error:
        raise DatasetError(f"{path}: can't be read as {title_of(form, reading=True)} ({type(error).__name__}: {str(error)[:120]})") from None
    return Recognised(form, files, reading, why, account, recipe, doubts)


def _doubts(tree: Tree, form: str, reading: Reading, options: ImportOptions) -> dict[str, Doubt]:
    """What is to be asked, by the option that answers it; nothing where that option was given."""
    found: dict[str, Doubt] = {}
    if options.form and options.levels:
        return found
    kinds = kinds_of(tree, sorted(reading.pictures()))
    doubt = reading.doubt
    if not options.form:
        if doubt is None and form in (folders.NAME, plain.NAME) and (maps := label_maps_among(tree, kinds)):
            doubt = Doubt(maps, {form: "they are pictures like the others"})
        if doubt is not None:
            found["form"] = doubt._replace(said=f"read as {title_of(form, reading=True)}, {doubt.said}")
    if not options.levels and (deep := part_of_the_levels(tree, kinds)):
        found["levels"] = deep
    return found


def unread_files(path: Path | str, options: ImportOptions) -> tuple[Tree, list[str]]:
    """The files of a dataset, and those of them that could hold labels and that nothing reads. Raises `DatasetError` for no files."""
    tree = Tree(open_files(Path(path)), options.ignore)
    try:
        return tree, open_dataset(path, options, ReadProblems(strict=False), ask=False).account.asked
    except DatasetError:
        return tree, [each for each in tree.paths if could_hold(each)]


def prepared(source: SourceFiles, reading: Reading, options: ImportOptions) -> Files:
    """The files as they are to be used: as they lie there, or with levels, label maps and windows made of them."""
    if not options.levels and not reading.maps and options.tile is None:
        return source
    return PreparedFiles(source, options.level_rule, reading.map_levels, reading.maps, {})


def read_dataset(
    path: Path | str, form: str | None = None, problems: ReadProblems | None = None, options: ImportOptions | None = None,
    known_splits: Mapping[str, str] | None = None, only: Collection[str] | None = None, ask: bool = True,
) -> Dataset:  # fmt: skip
    """A whole dataset (see `open_dataset`), its labels in memory.

    known_splits: splits that images had before, by the SHA-256 of their files; where splits are drawn they keep them.
    only: keys of the few images whose labels are wanted: the others are left unread where nothing of these depends on them.
    """
    options = replace(options or ImportOptions(), form=form or (options.form if options else ""))
    problems = problems or ReadProblems()
    found = open_dataset(path, options, problems, ask)
    reading = found.reading
    chosen = options.for_classes(reading.classes)
    classes = chosen.class_names(reading.classes)
    drawn = options.splits == "drawn" or bool(known_splits and reading.drawn)
    if only is not None and not drawn and not reading.drawn and options.tile is None:
        reading = replace(reading, listed=(image for image in found.reading.listed if image.key in only))
    entries = _chosen(reading.entries, chosen, reading.classes)
    if drawn:
        held = entries_of(entries)
        splits = drawn_splits(held.values(), classes, found.files, options, known_splits)
        entries = (replace(entry, split=splits[entry.key]) for entry in held.values())
    dataset = Dataset(found.files.name, classes, entries, found.files, reading.skeleton, reading.extra)
    getattr(found.files, "files", found.files).__dict__.pop("paths", None)  # the list of files has served
    dataset.map_classes = reading.map_classes
    dataset.mirror_classes = options.class_pairs((*classes, *reading.map_classes))
    dataset.origin, dataset.format = url_of(path) or str(Path(path).absolute()), found.form
    if chosen.groups and only is None and not any(entry.group for entry in dataset.entries.values()):
        problems.remark("group", "the pattern of groups fits no image: every image is by itself")
    dataset.read_as = replace(options, reading=found.recipe).to_json()
    dataset.splits_drawn, dataset.why = drawn or reading.drawn, found.why
    dataset.account, dataset.questions = found.account, [str(doubt) for doubt in found.doubts.values()]
    return dataset


def _chosen(entries: Iterator[Entry], options: ImportOptions, found: tuple[str, ...]) -> Iterator[Entry]:
    """Images with the chosen classes and groups."""
    for entry in entries:
        kept = options.with_classes(entry, found)
        if kept is not None:
            yield replace(kept, group=options.group_of(kept)) if options.groups else kept


#: With such signs no other format needs to be looked for.
SURE = 0.95


def recognise(tree: Tree) -> tuple[str, list[str]]:
    """The format that the files fit best, and the files that speak for it. Raises `DatasetError` saying what the nearest two lack."""
    found: dict[str, Signs] = {}
    for name, module in READERS.items():
        found[name] = module.signs(tree)
        if found[name].score >= SURE:
            break
    else:
        for name, recipe in shipped().items():
            found[name] = taught.signs(recipe, tree)
    best = max(found, key=lambda name: found[name].score)
    if found[best].score > 0:
        against = found[best].against
        return best, [*found[best].why, *(f"not {path}" for path in against)]
    if tree.unreadable:
        raise DatasetError(tree.unreadable[0])
    if not tree.pictures:
        raise DatasetError(f"{tree.files.label}: not recognised as a dataset: there is no picture in it ({', '.join(READABLE)})")
    raise DatasetError(f"{tree.files.label}: {_unknown(tree)}. Or name its format with --from")


def _unknown(tree: Tree) -> str:
    """What the nearest two formats lack."""
    near = sorted(READERS, key=lambda name: -_nearness(tree, name))[:2]
    missing = "; ".join(f"for {title_of(name, reading=True)}: {READERS[name].signs(tree).missing}" for name in near)
    return f"not recognised as a dataset; what is missing {missing}"


def _nearness(tree: Tree, name: str) -> int:
    """How many files have the suffix that a format's label files have."""
    suffixes = {
        "coco": (".json",), "voc": (".xml",), "yolo": (".txt", ".yaml", ".yml"), "picture-json": (".json",), "table": table.SUFFIXES,
        "oriented-text": (".txt",),
    }.get(name)  # fmt: skip
    return len(tree.ending(*suffixes)) if suffixes else 0


def default_format(dataset: Dataset) -> str:
    """The format that a dataset is written in unless another is wanted: its own, of the kind of labels it has."""
    form = dataset.format
    if not form:
        counts = LabelCounts(dataset)
        return coco.NAME if counts.boxes or not (counts.classes or counts.label_maps) else folders.NAME if counts.classes else masks.NAME
    if form == yolo.NAME:
        counts = LabelCounts(dataset)
        kinds = (("yolo-oriented", counts.oriented), ("yolo-keypoints", counts.keypoints), ("yolo-polygons", counts.outlines + counts.masks))
        return next((name for name, count in kinds if count), yolo.NAME)
    return form if form in WRITERS else coco.NAME
