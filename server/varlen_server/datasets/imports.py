"""A dataset on its way in: its files are gathered or its folder named, it is recognised, options are chosen, a job reads it."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path, PurePosixPath
from typing import Any

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.utils import timezone
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.generics import get_object_or_404
from varlen.datasets.archives import is_tar
from varlen.datasets.image_files import decode, read_header
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import preview_dataset
from varlen.datasets.level_rules import LevelRule
from varlen.datasets.recipes import Recipe
from varlen.datasets.sources import UNPACKERS, open_files
from varlen.errors import DatasetError
from varlen.stores import Store, url_of

from varlen_server.datasets.models import DatasetImport
from varlen_server.datasets.tasks import clear, import_dataset_task
from varlen_server.previews import preview

State = DatasetImport.State
#: Before a job has it.
OPEN = (State.GATHERING, State.RECOGNISED)
MOST_FOLDERS = 500
#: Uploads that nobody went on with are removed after this many hours.
FORGOTTEN_HOURS = 24
EXAMPLE_WIDTH = 640


def begin(name: str = "", folder: str = "") -> DatasetImport:
    """A new import: of a folder on the server's machine, recognised at once, or of files that follow. Raises `DatasetError`."""
    _clear_forgotten()
    if folder:
        place = allowed_place(folder)
        path = Path(place)
        found = DatasetImport(name=name or path.stem, path=place, recognised=preview_dataset(path), state=State.RECOGNISED)
    else:
        settings.UPLOADS.mkdir(parents=True, exist_ok=True)
        upload = tempfile.mkdtemp(dir=settings.UPLOADS)
        found = DatasetImport(name=name or "dataset", folder=upload, path=upload)
    found.save()
    return found


def open_import_or_404(pk: int) -> DatasetImport:
    """An import that no job has yet."""
    return get_object_or_404(DatasetImport, pk=pk, state__in=OPEN)


def add_files(dataset_import: DatasetImport, files: list[UploadedFile], paths: list[str]) -> None:
    """Store uploaded files; paths: where each lies in the dataset's folder, or none for their own names. Raises `ValidationError`."""
    if not files:
        raise ValidationError("There is no file in the request.")
    if paths and len(paths) != len(files):
        raise ValidationError("There must be a path for each file, or none at all.")
    for upload, place in zip(files, paths or [str(upload.name) for upload in files], strict=True):
        if (upload.size or 0) > settings.LARGEST_UPLOAD:
            raise ValidationError(f"{upload.name} is larger than {settings.LARGEST_UPLOAD >> 30} GB.")
        target = Path(dataset_import.folder) / "files" / _safe(place)
        target.parent.mkdir(parents=True, exist_ok=True)
        with target.open("wb") as out:
            for block in upload.chunks():
                out.write(block)


def recognise(dataset_import: DatasetImport, form: str = "", levels: str = "", reading: dict[str, Any] | None = None) -> None:
    """See what the files are, or what they are when read as `form` or by the recipe `reading`, with a rule for `levels`. Raises `DatasetError`."""
    if dataset_import.folder:
        dataset_import.path = str(_gathered(Path(dataset_import.folder) / "files"))
    dataset_import.recognised = preview_dataset(Path(dataset_import.path), form, levels, recipe=Recipe.parse(reading) if reading else None)
    dataset_import.state = State.RECOGNISED
    dataset_import.save(update_fields=["path", "recognised", "state"])


def start(pk: int, options: dict[str, Any], name: str = "") -> DatasetImport:
    """Hand a recognised import to a job. Raises `DatasetError` for options that don't fit it."""
    with transaction.atomic():
        found = get_object_or_404(DatasetImport.objects.select_for_update(), pk=pk, state=State.RECOGNISED)
        _check_answers(found.recognised, options)
        options.setdefault("form", found.recognised["format"])
        ImportOptions.from_json(options).class_names(each["name"] for each in found.recognised["classes"])
        found.choices, found.name = options, name or found.name
        found.total, found.state = found.recognised["images"], State.WAITING
        found.save()
        import_dataset_task.defer(import_id=found.pk)
    return found


def _check_answers(recognised: dict[str, Any], options: dict[str, Any]) -> None:
    """Whether what the files leave open was answered. Raises `DatasetError`."""
    asks = recognised.get("asks", [])
    if "mask_class" in asks and not options.get("mask_class"):
        raise DatasetError("the class of its masks has no name: give mask_class")
    if "ignore" in asks and not options.get("ignore"):
        raise DatasetError(recognised["files"]["question"])
    for doubt in recognised.get("doubts", []):
        if not options.get(doubt["option"]):
            ways = ", ".join(f"{form} if {words}" for form, words in doubt["answers"].items())
            raise DatasetError(f"{doubt['said']}: give {doubt['option']}{ways and f', {ways}'}")


def cancel(pk: int) -> None:
    """Stop an import; nothing of it stays. One that is being read ends at its next image."""
    if DatasetImport.objects.filter(pk=pk, state__in=(*OPEN, State.WAITING)).update(state=State.CANCELLED, message="cancelled"):
        clear(DatasetImport.objects.get(pk=pk))
    DatasetImport.objects.filter(pk=pk, state=State.READING).update(stop_asked=True)


def example_picture(dataset_import: DatasetImport) -> bytes:
    """The picture of the example that was recognised, as JPEG."""
    if not dataset_import.recognised:
        raise NotFound("Nothing was recognised yet.")
    example = dataset_import.recognised["example"]
    if example is None:
        raise NotFound("No picture can be shown before there is a rule for its levels.")
    files, rule = open_files(dataset_import.path), LevelRule.parse(dataset_import.recognised.get("levels", ""))
    data = files.read(example["key"])
    ruled = rule.kind and rule.serves(read_header(data, example["key"]))
    return preview(rule.decode(data, example["key"]) if ruled else decode(data, example["key"]), EXAMPLE_WIDTH)


def folders_below(asked: str) -> dict[str, Any]:
    """Folders and zips in an allowed folder, and the folder above; without a path, the allowed ones. Raises `DatasetError`."""
    if not asked:
        roots = [_folder(path, str(path)) for path in settings.FOLDERS if path.is_dir()] + [
            {"path": url, "name": url, "dataset": False} for url in settings.STORES
        ]
        return {"path": "", "above": None, "folders": roots}
    if url := url_of(asked):
        return _stored_folders(url)
    path = allowed_path(asked)
    if not path.is_dir():
        raise NotFound(f"{path} is not a folder.")
    found = [child for child in sorted(path.iterdir()) if not child.name.startswith(".") and (child.is_dir() or _is_archive(child))]
    above = "" if path in settings.FOLDERS else str(path.parent)
    return {"path": str(path), "above": above, "folders": [_folder(child, child.name, _looks_like_one(child)) for child in found[:MOST_FOLDERS]]}


def _folder(path: Path, name: str, dataset: bool = False) -> dict[str, Any]:
    return {"path": str(path), "name": name, "dataset": dataset}


def _stored_folders(asked: str) -> dict[str, Any]:
    """Folders in an object store, below a URL that was named."""
    url = allowed_url(asked)
    inside = sorted({path.split("/", 1)[0] for path in Store(url).listed() if "/" in path})
    above = "" if url in settings.STORES else url.rsplit("/", 1)[0]
    signs = {"annotations", "images", "train"}
    folders = [{"path": f"{url}/{name}", "name": name, "dataset": name in signs} for name in inside if not name.startswith(".")]
    return {"path": url, "above": above, "folders": folders[:MOST_FOLDERS]}


def allowed_place(text: str) -> str:
    """A folder of this machine or the URL of one in an object store that may be imported from. Raises `DatasetError`."""
    url = url_of(text)
    return allowed_url(url) if url else str(allowed_path(text))


def allowed_url(url: str) -> str:
    """A URL below one that was named: the server's administrator decides what it speaks to. Raises `DatasetError`."""
    if not any(url == root or url.startswith(f"{root}/") for root in settings.STORES):
        listed = f"below {' or '.join(settings.STORES)}" if settings.STORES else "allowed here"
        raise DatasetError(f"{url}: not {listed}; VARLEN_STORES names the URLs that may be used")
    return url


def allowed_path(text: str) -> Path:
    """A path on this machine below an allowed folder, links followed, nothing hidden. Raises `DatasetError`."""
    try:
        path = Path(text).expanduser().resolve()
    except (ValueError, RuntimeError, OSError):
        raise DatasetError(f"{text!r}: not a path on this machine") from None
    if not any(path.is_relative_to(root) for root in settings.FOLDERS):
        raise DatasetError(f"{text}: not below {' or '.join(map(str, settings.FOLDERS))}; VARLEN_FOLDERS names the folders to import from")
    if all(any(part.startswith(".") for part in path.relative_to(root).parts) for root in settings.FOLDERS if path.is_relative_to(root)):
        raise DatasetError(f"{text}: hidden folders are not imported from")
    if not path.exists():
        raise DatasetError(f"{path}: no such file or folder")
    return path


def _looks_like_one(path: Path) -> bool:
    signs = {"annotations", "images", "data.yaml", "JPEGImages", "Annotations", "train"}
    try:
        return _is_archive(path) or any(child.name in signs for child in path.iterdir())
    except OSError:
        return False


def _safe(place: str) -> Path:
    """A path within the folder of the upload. Raises `ValidationError` for one that leads out of it."""
    path = PurePosixPath(place.replace("\\", "/"))
    if path.is_absolute() or ".." in path.parts or "\x00" in place or not path.name:
        raise ValidationError(f"{place!r} leads out of the dataset's folder.")
    return Path(*(re.sub(r"[\x00-\x1f]", "_", part) for part in path.parts))


def _gathered(files: Path) -> Path:
    """What was gathered: the one zip, or the folder; one folder around everything is only wrapping."""
    if not files.is_dir():
        raise DatasetError("There is no file yet.")
    inside = list(files.iterdir())
    if len(inside) == 1 and (inside[0].is_dir() or _is_archive(inside[0]) or inside[0].suffix.lower() in UNPACKERS):
        return inside[0]
    return files


def _clear_forgotten() -> None:
    oldest = timezone.now() - timedelta(hours=FORGOTTEN_HOURS)
    for dataset_import in DatasetImport.objects.filter(state__in=OPEN, created__lt=oldest):
        clear(dataset_import)
        dataset_import.delete()
    for folder in unneeded_uploads(oldest.timestamp()):
        shutil.rmtree(folder, ignore_errors=True)


def unneeded_uploads(before: float) -> Iterator[Path]:
    """Folders of uploads that no import needs any more, and that nothing came into since `before`, seconds since the epoch."""
    ended = (State.DONE, State.FAILED, State.CANCELLED)
    needed = {Path(folder).name for folder in DatasetImport.objects.exclude(state__in=ended).values_list("folder", flat=True) if folder}
    for path in settings.UPLOADS.glob("*"):
        if path.name not in needed and path.stat().st_mtime < before:
            yield path


def _is_archive(path: Path) -> bool:
    return path.suffix.lower() == ".zip" or is_tar(path)
