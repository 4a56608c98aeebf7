"""A folder of arrays with a manifest: written whole or not at all, checksummed, memory-mapped.

An artifact is keyed by its kind and a fingerprint of what it was made from. It is written into a
temporary folder beside its folder, flushed to disk and renamed, so a reader never sees half of one.

Checksums are verified when a file is opened that has not been since it was written or touched last: what the file
system says of it (size, inode, times of writing and change) is kept beside it, so a sound artifact of any size
opens in milliseconds and an altered one is still found.
"""

import os
import shutil
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.errors import ArtifactDamaged
from doppio.core.seen_files import SEEN, note_seen, seen_in, stamp
from doppio.core.store.locks import FolderLocks, Locks
from doppio.core.store.manifest import (
    FORMAT,
    MANIFEST,
    bytes_of,
    digest_of,
    read_manifest,
    sealed,
    stamps_of,
)
from doppio.core.store.reading_ahead import reading_ahead
from doppio.core.store.small_files import DRAFT, FolderFiles, SmallFiles

IN_USE = "in-use"
# A cancelled encoding waits for so long to be gone on with, in seconds.
ABANDONED = 14 * 24 * 3600.0


# What an artifact says of itself beside its arrays: JSON values.
Facts = dict[str, Any]


@dataclass(frozen=True)
class Artifact:
    """An opened artifact: its arrays are mapped from disk; what is written to them never reaches it."""

    kind: str
    fingerprint: str
    folder: Path
    arrays: Mapping[str, NDArray[Any]]
    meta: Mapping[str, Any]
    bytes: int


class ArtifactStore:
    """The artifacts below one folder.

    Parameters
    ----------
    locks : Locks or None
        By which those who build do not do the same twice; None for those of the folder.
    """

    def __init__(self, root: Path, locks: Locks | None = None) -> None:
        self.root = root
        self.locks = locks or FolderLocks(root / ".locks")

    @property
    def lists(self) -> SmallFiles:
        """Where reading lists stand."""
        return FolderFiles(self.root / "lists")

    def folder_of(self, kind: str, key: str) -> Path:
        return self.root / f"{kind}-{key}"

    def has(self, kind: str, key: str) -> bool:
        return self.is_here(kind, key)

    def is_here(self, kind: str, key: str) -> bool:
        """Whether it is in this folder."""
        return (self.folder_of(kind, key) / MANIFEST).exists()

    def lacking(self, wanted: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
        """Those of some artifacts, each a kind and a key, that are not there."""
        return [one for one in wanted if not self.has(*one)]

    def write(
        self, kind: str, key: str, arrays: Mapping[str, NDArray[Any] | Path], meta: Mapping[str, Any]
    ) -> Artifact:
        """Write an artifact atomically and open it.

        Parameters
        ----------
        arrays : mapping from name to array
            Or to the path of an `.npy` file below the same root, which is moved, and back if anything goes wrong.

        Raises
        ------
        OSError
            If the disk is full or not writable; nothing half-written stays behind.
        """
        folder = self.folder_of(kind, key)
        draft = self.root / f".{folder.name}.{uuid.uuid4().hex}"
        draft.mkdir(parents=True)
        moved: dict[Path, Path] = {}
        try:
            listed = {}
            for name, array in arrays.items():
                path = draft / f"{name}.npy"
                if isinstance(array, Path):
                    moved[array] = array.rename(path)
                with path.open("ab" if isinstance(array, Path) else "wb") as file:
                    if not isinstance(array, Path):
                        np.save(file, np.ascontiguousarray(array), allow_pickle=False)
                    file.flush()
                    os.fsync(file.fileno())
                listed[name] = {"bytes": path.stat().st_size, "blake2b": digest_of(path)}
            manifest = {"format": FORMAT, "kind": kind, "fingerprint": key, "arrays": listed, "meta": meta}
            with (draft / MANIFEST).open("w", encoding="utf-8") as file:
                file.write(sealed(manifest))
                file.flush()
                os.fsync(file.fileno())
            note_seen(draft, stamps_of(draft, listed))
            _sync_folder(draft)
            self.carry_away(draft, manifest)
            self.drop(kind, key)
            draft.rename(folder)
            _sync_folder(self.root)
        finally:
            if draft.exists():
                for before, path in moved.items():
                    # Whoever made it may have taken hours, and goes on with it.
                    path.rename(before)
                shutil.rmtree(draft)
        return self.open(kind, key)

    def carry_away(self, draft: Path, manifest: Mapping[str, Any]) -> None:
        """What else is done with a whole artifact before it is seen here; for stores that others see too."""

    def open(self, kind: str, key: str, *, ahead: bool = True) -> Artifact:
        """Open an artifact, verify its checksums and map its arrays.

        Parameters
        ----------
        ahead : bool
            Whether it is worth reading through beforehand; not where little of it will be looked at.

        Raises
        ------
        FileNotFoundError
            If there is no such artifact.
        ArtifactDamaged
            If a file is missing, shortened or altered.
        """
        folder = self.folder_of(kind, key)
        if not folder.exists():
            raise FileNotFoundError(folder)
        try:
            manifest = read_manifest(folder)
        except ArtifactDamaged:
            if not folder.exists():
                raise FileNotFoundError(folder) from None
            raise
        if manifest["kind"] != kind or manifest["fingerprint"] != key:
            raise ArtifactDamaged(f"{folder}: holds {manifest['kind']}-{manifest['fingerprint']} instead")
        arrays: dict[str, NDArray[Any]] = {}
        total = 0
        seen, stamps = seen_in(folder), {}
        for name, listed in manifest["arrays"].items():
            path = folder / f"{name}.npy"
            try:
                stamps[name] = stamp(path)
                known = seen.get(name) == stamps[name]
                whole = path.stat().st_size == listed["bytes"] and (known or digest_of(path) == listed["blake2b"])
                # Private pages: compiled functions then see one kind of array, mapped or not. As a plain array, since
                # each slice of a mapped one would be made by Python.
                arrays[name] = np.asarray(np.load(path, mmap_mode="c")) if whole else np.empty(0)
            except FileNotFoundError as error:
                if not (folder / MANIFEST).exists():
                    # Taken away as a whole while it was opened.
                    raise FileNotFoundError(folder) from error
                raise ArtifactDamaged(f"{path}: missing; delete {folder} and build it again") from error
            if not whole:
                raise ArtifactDamaged(f"{path}: does not match its checksum; delete {folder} and build it again")
            total += listed["bytes"]
        if seen != stamps:
            note_seen(folder, stamps)
        if ahead:
            reading_ahead.of([folder / f"{name}.npy" for name in arrays])
        return Artifact(kind, key, folder, arrays, manifest["meta"], total)

    def look_through(self, read: Callable[[int], None]) -> list[str]:
        """Read every file and compare it with its checksum, whatever the file system says of it.

        Parameters
        ----------
        read : callable
            Told how many bytes were read now; it may take its time, and ends the look by raising.

        Returns
        -------
        list of str
            What is damaged. Its next opening refuses it, so that the next build makes it again.
        """
        found = []
        for manifest in sorted(self.root.glob(f"[!.]*/{MANIFEST}")):
            folder = manifest.parent
            try:
                arrays = read_manifest(folder)["arrays"]
                wrong = [
                    name
                    for name, listed in arrays.items()
                    if digest_of(folder / f"{name}.npy", read) != listed["blake2b"]
                ]
            except ArtifactDamaged as error:
                found.append(str(error))
                continue
            except FileNotFoundError:
                # Gone meanwhile, or told when it is opened.
                continue
            if wrong:
                (folder / SEEN).unlink(missing_ok=True)
                found.append(f"{folder}: {', '.join(wrong)} does not match its checksum")
        return found

    def building(self, name: str) -> AbstractContextManager[None]:
        """Hold a lock by name against other processes and threads that would build the same."""
        return self.locks.hold(name)

    def in_use(self, *, alone: bool = False) -> AbstractContextManager[bool]:
        """Say that artifacts are being put together, so that none is taken away as left over.

        With `alone` the block learns whether nobody else does; it then holds them off.
        """
        return self.locks.share(IN_USE, alone=alone)

    @contextmanager
    def scratch(self) -> Iterator[Path]:
        """A folder for arrays on their way into an artifact, on the same disk; it goes with the block."""
        folder = self.root / f".scratch.{uuid.uuid4().hex}"
        folder.mkdir(parents=True)
        try:
            yield folder
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def listed(self, kind: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
        """Key and meta of every artifact of a kind whose manifest can be read."""
        for folder in sorted(self.root.glob(f"{kind}-*")):
            try:
                manifest = read_manifest(folder)
            except ArtifactDamaged:
                continue
            if manifest["kind"] == kind:
                yield manifest["fingerprint"], manifest["meta"]

    def describe(self, kind: str, key: str) -> tuple[int, Mapping[str, Any]]:
        """Size in bytes and meta of an artifact from its manifest alone, without reading its arrays."""
        manifest = read_manifest(self.folder_of(kind, key))
        return bytes_of(manifest), manifest["meta"]

    def remove(self, kind: str, key: str) -> None:
        """Take an artifact out of sight at once, then delete its files."""
        self.drop(kind, key)

    def drop(self, kind: str, key: str) -> None:
        """The same for what of it is in this folder."""
        folder = self.folder_of(kind, key)
        if folder.exists():
            doomed = self.root / f".{folder.name}.{uuid.uuid4().hex}.old"
            folder.rename(doomed)
            shutil.rmtree(doomed)

    def clear_away(self, now: float) -> int:
        """Delete what killed processes have left, where nobody else builds; returns how many things there were.

        That is drafts of artifacts and lists, artifacts on their way out, encodings that nobody has gone on with for
        a long time, and artifacts whose manifest cannot be read.

        Parameters
        ----------
        now : float
            Seconds since 1970.
        """
        left = [path for path in self.root.glob(".*") if DRAFT.fullmatch(path.name)]
        left += [path for path in (self.root / "lists").glob(".*") if DRAFT.fullmatch(path.name)]
        left += [path for path in self.root.glob(".encoding-*") if _touched(path) < now - ABANDONED]
        for path in self.root.glob("[!.]*-*"):
            if path.is_dir():
                try:
                    read_manifest(path)
                except ArtifactDamaged:
                    left.append(path)
        for path in left:
            shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
        return len(left)

    def open_or_none(self, kind: str, key: str) -> Artifact | None:
        """Open an artifact; one that is absent is None, and so is a damaged one, which is removed."""
        before = _folder(self.folder_of(kind, key))
        try:
            return self.open(kind, key)
        except FileNotFoundError:
            return None
        except ArtifactDamaged:
            # Another process may have put a sound one there meanwhile.
            if _folder(self.folder_of(kind, key)) == before:
                self.remove(kind, key)
            return None


def _touched(folder: Path) -> float:
    """When anything in a folder was written last, in seconds since 1970."""
    return max((path.stat().st_mtime for path in (folder, *folder.rglob("*"))), default=0.0)


def _folder(folder: Path) -> tuple[int, int] | None:
    """Which folder stands at a folder."""
    try:
        found = folder.stat()
    except FileNotFoundError:
        return None
    return found.st_dev, found.st_ino


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
