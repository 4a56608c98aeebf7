"""Files that a person brings in: staged, read one by one in the background, each with its own end."""

import logging
import time
from datetime import datetime, timedelta
from pathlib import PurePosixPath
from typing import Any, BinaryIO

from django.conf import settings
from django.contrib.auth.models import User
from django.db import InterfaceError, OperationalError, transaction
from django.db.models import Exists, Max, OuterRef, Q, QuerySet
from procrastinate.contrib.django import app

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import LIMITS, too_large
from doppio.core.formats.beside import PAGES, Beside, Joined, is_page
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import KNOWN, is_known
from doppio.core.formats.records import Fields
from doppio.core.progress import Progress
from doppio.core.text.canonical import canonical
from doppio.imports.models import Import, ImportedFile
from doppio.jobs.models import Job
from doppio.library import files
from doppio.library.intake import ADDED, REFUSED, REPLACED, SAME, expanded, take_file
from doppio.library.models import Workspace
from doppio.library.signals import settled

ARCHIVE = ".zip"
# The name of the task.
IMPORT = "import"
# What may show pictures that stand in files of their own.
IS_PAGE = Q(*(("name__iendswith", ending) for ending in PAGES), _connector=Q.OR)
log = logging.getLogger(__name__)


def begin(workspace: Workspace, user: User | None) -> Import:
    """An empty import that files are staged for; one that was never started is taken up again, without its files."""
    discard(workspace.imports.filter(job=None, created_by=user))
    return Import.objects.create(workspace=workspace, created_by=user)


def discard(brought_in: QuerySet[Import]) -> None:
    """Delete imports with the bytes of their files that nothing else needs."""
    digests = list(ImportedFile.objects.filter(brought_in__in=brought_in).values_list("digest", flat=True))
    brought_in.delete()
    files.forget(digests)


def stage(brought_in: Import, name: str, size: int, source: BinaryIO) -> ImportedFile:
    """Keep the bytes of one file until the import is started; one that cannot be read is refused at once.

    Raises
    ------
    DocumentError
        If the import has been started already.
    """
    if brought_in.job_id is not None:
        raise DocumentError("This import has been started; begin another one for more files.")
    path = _clean(name)
    with transaction.atomic():
        Import.objects.select_for_update().get(pk=brought_in.pk)
        last = brought_in.files.aggregate(last=Max("position"))["last"]
        row = ImportedFile(brought_in=brought_in, position=0 if last is None else last + 1, name=path, bytes=size)
        reason = _refusal(path, size)
        if reason:
            row.state, row.reason = REFUSED, reason
        else:
            files.hold_still()
            row.digest = files.keep(source.read())
        row.save()
    return row


def _clean(name: str) -> str:
    parts = [part for part in PurePosixPath(canonical(name).replace("\\", "/")).parts if part not in ("/", "..", ".")]
    return "/".join(parts)[-500:] or "unnamed"


def _refusal(name: str, size: int) -> str:
    if not name.lower().endswith(ARCHIVE) and not is_known(name):
        ending = PurePosixPath(name).suffix
        return f"unknown ending {ending!r}; known are {', '.join(KNOWN)} and {ARCHIVE}"
    if size > LIMITS.file_bytes:
        return too_large(size, LIMITS.file_bytes)
    return "empty" if size == 0 else ""


def set_fields(row: ImportedFile, body: Any) -> None:
    """Say what the fields of a tabular file are; None reads it as it is.

    Raises
    ------
    DocumentError
        Names the key and what is right.
    """
    row.fields = None if body is None else Fields.from_json(body, row.name).to_json()
    row.save(update_fields=["fields"])


READ_FILES = "read files"


def start(brought_in: Import, user: User | None) -> Job:
    """Queue an import; one that was started keeps its job, unless that has ended with files still to be read.

    Raises
    ------
    DocumentError
        If there is no file to read.
    """
    with transaction.atomic():
        brought_in = Import.objects.select_for_update().select_related("workspace").get(pk=brought_in.pk)
        ended = (Job.FAILED, Job.CANCELLED)
        again = brought_in.job is not None
        if brought_in.job is not None and not (
            brought_in.job.state in ended and brought_in.files.filter(state=ImportedFile.WAITING).exists()
        ):
            return brought_in.job
        files_to_read = brought_in.files.filter(state=ImportedFile.WAITING) if again else brought_in.files
        count = files_to_read.count()
        if not count:
            raise DocumentError("No file to import; choose at least one.")
        brought_in.job = Job.objects.create(
            workspace=brought_in.workspace,
            kind=IMPORT,
            title=f"Import {count:,} file{'s' if count > 1 else ''}",
            details={"import": brought_in.pk},
            started_by=user,
        )
        brought_in.save(update_fields=["job"])
        app.configure_task(IMPORT).defer(job=brought_in.job.pk)
    return brought_in.job


def run(brought_in: Import, progress: Progress) -> str:
    """Read the files that wait; returns what became of all. Each file is kept or refused on its own."""
    with BoundedReader() as reader:
        _open_archives(brought_in, progress)
        waiting = brought_in.files.filter(state=ImportedFile.WAITING)
        files_of, beside = _Files(progress, waiting.count()), _beside(brought_in)
        # Pictures that a page shows wait for no reader of their own once it has been read.
        for which in (IS_PAGE, ~IS_PAGE):
            for row in waiting.filter(which).iterator(chunk_size=500):
                joined = _read(row, brought_in.workspace, reader, files_of, beside)
                with transaction.atomic():
                    files_of.fewer(_shown(row, brought_in, joined))
                    row.save(update_fields=["state", "reason", "counts", "seconds"])
                # What is kept of a page with pictures is all of them together.
                if row.state in (SAME, REFUSED) or joined.shown:
                    files.forget([row.digest])
                files_of.next()
        files.forget(brought_in.files.filter(state=ImportedFile.SHOWN).values_list("digest", flat=True))
    settled.send(Import, workspace=brought_in.workspace)
    return summary(brought_in)


def _beside(brought_in: Import) -> Beside:
    """The pictures that came with the pages; those of pages that were read before a kill are there for the others."""
    there = Q(state=ImportedFile.WAITING) | Q(state=ImportedFile.SHOWN)
    digests = dict(brought_in.files.filter(there).exclude(digest="").values_list("name", "digest"))
    return Beside(digests, lambda name: files.kept(digests[name], name))


def _read(
    row: ImportedFile, workspace: Workspace, reader: BoundedReader, progress: Progress, beside: Beside
) -> Joined:
    """Read one file, a page with its pictures, and say in its row what became of it."""
    begun = time.perf_counter()
    fields = Fields.from_json(row.fields, row.name) if row.fields else None
    joined = Joined(b"")
    try:
        data = files.kept(row.digest, row.name)
        joined = beside.join(data, row.name) if is_page(row.name) else Joined(data)
        taken = take_file(workspace, row.name, joined.data, reader, fields, progress=progress)
        row.state, row.reason, row.counts = taken.state, taken.reason, taken.counts
    except DocumentError as error:
        row.state, row.reason = REFUSED, str(error)
    except (OperationalError, InterfaceError):
        raise
    except Exception as error:
        # One file that nobody thought of is no reason to leave out those after it.
        log.exception("%s cannot be kept", row.name)
        row.state, row.reason = REFUSED, canonical(f"cannot be kept ({type(error).__name__}: {error})")[:500]
    row.seconds = time.perf_counter() - begun
    return joined


def _shown(row: ImportedFile, brought_in: Import, joined: Joined) -> int:
    """Tell of the pictures of a page that is there now; returns how many are part of it and need no reading."""
    if (
        not (joined.shown or joined.told)
        or not brought_in.workspace.files.filter(digest=files.file_digest(joined.data)).exists()
    ):
        return 0
    row.reason = "; ".join(part for part in (row.reason, joined.told) if part)
    pictures = brought_in.files.filter(name__in=joined.shown, state=ImportedFile.WAITING)
    return pictures.update(state=ImportedFile.SHOWN, reason=f"shown in {row.name}")


class _Files:
    """The progress over files; scanned pages of one are a step of their own."""

    def __init__(self, progress: Progress, left: int) -> None:
        self._progress, self._left, self._inside = progress, left, False
        progress.start(READ_FILES, left, "files")

    def start(self, step: str, total: int, unit: str) -> None:
        self._inside = True
        self._progress.start(step, total, unit)

    def advance(self, count: int) -> None:
        self._progress.advance(count)

    def fewer(self, count: int) -> None:
        """Some files need no reading any more."""
        if count:
            self._left -= count
            self._inside = True

    def next(self) -> None:
        """A file is done."""
        self._left -= 1
        if self._inside:
            self._inside = False
            self._progress.start(READ_FILES, self._left, "files")
        else:
            self._progress.advance(1)


def _open_archives(brought_in: Import, progress: Progress) -> None:
    """A row for every file of an archive, in place of the archive; nothing of a broken one stays."""
    archives = [
        row for row in brought_in.files.filter(state=ImportedFile.WAITING) if row.name.lower().endswith(ARCHIVE)
    ]
    if not archives:
        return
    progress.start("open archives", len(archives), "archives")
    for row in archives:
        try:
            with transaction.atomic():
                count = _open(brought_in, row)
            row.state, row.reason = ImportedFile.OPENED, f"{count} files inside"
        except DocumentError as error:
            row.state, row.reason = REFUSED, str(error).removeprefix(f"{row.name}: ")
        row.save(update_fields=["state", "reason"])
        files.forget([row.digest])
        progress.advance(1)


def _open(brought_in: Import, archive: ImportedFile) -> int:
    position = brought_in.files.aggregate(last=Max("position"))["last"]
    count = 0
    for name, content in expanded(archive.name, files.kept(archive.digest, archive.name)):
        count += 1
        row = ImportedFile(brought_in=brought_in, position=position + count, name=_clean(name), bytes=0)
        if isinstance(content, DocumentError):
            row.state, row.reason = REFUSED, str(content).removeprefix(f"{name}: ")
        elif not content:
            row.state, row.reason = REFUSED, "empty"
        else:
            files.hold_still()
            row.bytes, row.digest = len(content), files.keep(content)
        row.save()
    if not count:
        raise DocumentError(f"{archive.name}: holds no file that can be read")
    return count


def tidy(sender: object, now: datetime, **_: object) -> None:
    """Throw away imports of jobs that are older than the settings keep them, and uploads that never started."""
    ended = now - timedelta(days=settings.DOPPIO_KEEP_JOBS_DAYS)
    discard(Import.objects.filter(job__ended_at__lt=ended))
    begun = now - timedelta(days=settings.DOPPIO_KEEP_UPLOADS_DAYS)
    discard(Import.objects.filter(job=None, created_at__lt=begun))


def still_needed(sender: object, digests: set[str], **_: object) -> set[str]:
    """Which of these files wait to be read, in whichever workspace."""
    own = ImportedFile.objects.filter(digest__in=digests)
    waiting = own.filter(state=ImportedFile.WAITING)
    # A picture of a page is wanted until all pages that came with it have been read.
    pages = ImportedFile.objects.filter(IS_PAGE, state=ImportedFile.WAITING, brought_in=OuterRef("brought_in"))
    shown = own.filter(Exists(pages), state=ImportedFile.SHOWN)
    return set(waiting.union(shown).values_list("digest", flat=True))


def summary(brought_in: Import) -> str:
    """What became of the files, in words."""
    states = list(brought_in.files.exclude(state=ImportedFile.OPENED).values_list("state", flat=True))
    words = {ADDED: "added", REPLACED: "replaced by a new version", SAME: "there already", REFUSED: "refused",
             ImportedFile.SHOWN: "shown in a page"}  # fmt: skip
    parts = [f"{states.count(state)} {text}" for state, text in words.items() if states.count(state)]
    lost = sum(row.counts.get("labels_lost", 0) for row in brought_in.files.all())
    said = f"{len(states)} file{'' if len(states) == 1 else 's'}: {', '.join(parts) or 'none read'}."
    return f"{said} {lost} labels lost their place." if lost else said
