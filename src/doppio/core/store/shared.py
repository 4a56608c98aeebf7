"""Artifacts that several machines share: they live in a far folder, and here is a cache of them, mapped from disk.

Each array is an object of its own that is named after its checksum; the manifest comes last and is what makes an
artifact visible, so nobody sees half of one. What is opened here is fetched once, compared with its checksums, and
then as near as any other file. Objects never change, so a copy here is as good as long as its name is asked for.
"""

import os
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any
from uuid import uuid4

from doppio.core.errors import ArtifactDamaged, StoreUnreachable
from doppio.core.seen_files import SEEN, note_seen
from doppio.core.store.artifacts import Artifact, ArtifactStore
from doppio.core.store.far import FarFolder
from doppio.core.store.locks import FolderLocks, Locks
from doppio.core.store.manifest import (
    MANIFEST,
    bytes_of,
    digest_of,
    digest_of_blocks,
    read_manifest,
    sealed,
    stamps_of,
    unsealed,
)
from doppio.core.store.small_files import FolderFiles, SmallFiles

ARTIFACTS, LISTS = "artifacts", "lists"
# Arrays of an artifact that are on their way at a time.
AT_ONCE = 4
LOOKED_FOR_AT_ONCE = 16
# How often an artifact is looked for anew that is replaced, or dropped from the cache, meanwhile.
TRIES = 4


class SharedStore(ArtifactStore):
    """See the module.

    Parameters
    ----------
    root : Path
        The folder of the cache; it belongs to one far folder.
    far : FarFolder
    locks : Locks or None
        Such as all machines see that build into the far folder; None where this one is alone.
    most_bytes : int or None
        What the cache may hold; what was opened longest ago goes first. None for as much as there is.
    """

    def __init__(self, root: Path, far: FarFolder, locks: Locks | None = None, most_bytes: int | None = None) -> None:
        super().__init__(root, locks)
        self.far = far
        self.most_bytes = most_bytes
        self._here = FolderLocks(root / ".fetching")

    @property
    def lists(self) -> SmallFiles:
        return FarFiles(self.far, self.root / LISTS)

    def has(self, kind: str, key: str) -> bool:
        """Whether it is there for all; what is in the cache stands for it where the store does not answer."""
        try:
            return self.far.has(self._manifest(kind, key))
        except StoreUnreachable:
            return self.is_here(kind, key)

    def lacking(self, wanted: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
        with ThreadPoolExecutor(LOOKED_FOR_AT_ONCE) as pool:
            there = list(pool.map(lambda one: self.has(*one), wanted))
        return [one for one, found in zip(wanted, there, strict=True) if not found]

    def open_or_none(self, kind: str, key: str) -> Artifact | None:
        """The same; what only the cache still has is given back to all, since something is to stand on it."""
        found = super().open_or_none(kind, key)
        if found is not None and not self.far.has(self._manifest(kind, key)):
            self.carry_away(found.folder, read_manifest(found.folder))
        return found

    def carry_away(self, draft: Path, manifest: Mapping[str, Any]) -> None:
        kind, key = manifest["kind"], manifest["fingerprint"]
        before = self._objects(kind, key)
        names = {_object(name, one): name for name, one in manifest["arrays"].items()}
        self._together(
            lambda named: self.far.send(draft / f"{named[1]}.npy", f"{self._folder(kind, key)}/{named[0]}"),
            list(names.items()),
        )
        self.far.write(self._manifest(kind, key), sealed(manifest).encode())
        self.far.remove([path for path in before if path.rsplit("/", 1)[1] not in {*names, MANIFEST}])

    def open(self, kind: str, key: str, *, ahead: bool = True) -> Artifact:
        """Open an artifact of the cache, fetched where it is not there or not as it was written."""
        for _ in range(TRIES):
            try:
                artifact = super().open(kind, key, ahead=ahead)
            except FileNotFoundError:
                self._fetch(kind, key)
            except ArtifactDamaged:
                self.drop(kind, key)
            else:
                if self.most_bytes is not None:
                    # When it was opened last.
                    with suppress(OSError):
                        os.utime(artifact.folder / SEEN)
                return artifact
        return super().open(kind, key, ahead=ahead)

    def _fetch(self, kind: str, key: str) -> None:
        """Bring an artifact into the cache.

        Raises
        ------
        FileNotFoundError
            If there is none.
        ArtifactDamaged
            If what is there is not what was written.
        """
        folder = self.folder_of(kind, key)
        with self._here.hold(folder.name):
            if self.is_here(kind, key):
                return
            where = self._folder(kind, key)
            try:
                body = self.far.read(f"{where}/{MANIFEST}")
            except FileNotFoundError:
                raise FileNotFoundError(folder) from None
            manifest = unsealed(body, f"{self.far.url}/{where}")
            self._make_room(bytes_of(manifest))
            draft = self.root / f".{folder.name}.{uuid4().hex}"
            draft.mkdir(parents=True)
            try:
                self._together(lambda one: self._copy(where, one[0], one[1], draft), list(manifest["arrays"].items()))
                (draft / MANIFEST).write_bytes(body)
                note_seen(draft, stamps_of(draft, manifest["arrays"]))
                self.drop(kind, key)
                draft.rename(folder)
            finally:
                shutil.rmtree(draft, ignore_errors=True)

    def _copy(self, where: str, name: str, listed: Mapping[str, Any], draft: Path) -> None:
        path, named = draft / f"{name}.npy", f"{where}/{_object(name, listed)}"
        try:
            self.far.fetch(named, path)
        except FileNotFoundError as error:
            raise ArtifactDamaged(f"{self.far.url}/{named}: missing; build it again") from error
        if path.stat().st_size != listed["bytes"] or digest_of(path) != listed["blake2b"]:
            raise ArtifactDamaged(f"{self.far.url}/{named}: does not match its checksum; build it again")

    def _together(self, work: Callable[[Any], None], each: Sequence[Any]) -> None:
        with ThreadPoolExecutor(AT_ONCE) as pool:
            list(pool.map(work, each))

    def _make_room(self, wanted: int) -> None:
        """Drop from the cache what was opened longest ago; who has it mapped keeps it until it is let go."""
        if self.most_bytes is None:
            return
        held = []
        for folder in self.root.glob("[!.]*-*"):
            try:
                size = sum(path.stat().st_size for path in folder.iterdir())
                held.append(((folder / SEEN).stat().st_mtime_ns, size, folder))
            except FileNotFoundError:
                continue
        left = sum(size for _, size, _ in held) + wanted
        for _, size, folder in sorted(held):
            if left <= self.most_bytes:
                return
            self.drop(*_named(folder.name))
            left -= size

    def listed(self, kind: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
        wanted = [path for path in self._manifests() if _named(_folder_name(path))[0] == kind]
        for path, body in sorted(self.far.read_all(wanted).items()):
            try:
                manifest = unsealed(body, path)
            except ArtifactDamaged:
                continue
            yield manifest["fingerprint"], manifest["meta"]

    def describe(self, kind: str, key: str) -> tuple[int, Mapping[str, Any]]:
        if self.is_here(kind, key):
            return super().describe(kind, key)
        name = self._manifest(kind, key)
        manifest = unsealed(self.far.read(name), f"{self.far.url}/{name}")
        return bytes_of(manifest), manifest["meta"]

    def remove(self, kind: str, key: str) -> None:
        """Take an artifact away for everybody, its manifest first."""
        self.far.remove([self._manifest(kind, key)])
        self.far.remove(self._objects(kind, key))
        self.drop(kind, key)

    def look_through(self, read: Callable[[int], None]) -> list[str]:
        """The same for the cache, and then for what is far away."""
        found = super().look_through(read)
        for path in self._manifests():
            where, damaged = path.rsplit("/", 1)[0], []
            try:
                manifest = unsealed(self.far.read(path), f"{self.far.url}/{where}")
                for name, listed in manifest["arrays"].items():
                    blocks = self.far.blocks(f"{where}/{_object(name, listed)}")
                    if digest_of_blocks(blocks, read) != listed["blake2b"]:
                        damaged.append(name)
            except ArtifactDamaged as error:
                found.append(str(error))
            except FileNotFoundError as error:
                # All of it may have been taken away meanwhile.
                if self.far.has(path):
                    found.append(f"{self.far.url}/{where}: an array is missing ({error})")
            if damaged:
                found.append(f"{self.far.url}/{where}: {', '.join(damaged)} does not match its checksum")
        return found

    def _manifests(self) -> list[str]:
        """Paths of all manifests that are far away."""
        return [path for path in self.far.names(ARTIFACTS) if path.endswith(f"/{MANIFEST}")]

    def clear_away(self, now: float) -> int:
        """The same here and far away, and from the cache what nobody has any more."""
        names = self.far.names(ARTIFACTS)
        whole = {_folder_name(path) for path in names if path.endswith(f"/{MANIFEST}")}
        left = [path for path in names if _folder_name(path) not in whole]
        self.far.remove(left)
        for manifest in self.root.glob(f"[!.]*/{MANIFEST}"):
            if manifest.parent.name not in whole:
                self.drop(*_named(manifest.parent.name))
        return super().clear_away(now) + len({_folder_name(path) for path in left})

    def _folder(self, kind: str, key: str) -> str:
        return f"{ARTIFACTS}/{kind}-{key}"

    def _manifest(self, kind: str, key: str) -> str:
        return f"{self._folder(kind, key)}/{MANIFEST}"

    def _objects(self, kind: str, key: str) -> list[str]:
        return self.far.names(self._folder(kind, key))


class FarFiles:
    """Small files of a far folder. A copy stands here: it is read where the store does not answer, since what it
    names never changes."""

    def __init__(self, far: FarFolder, copies: Path) -> None:
        self.far = far
        self.copies = FolderFiles(copies)

    def read(self, name: str) -> str:
        try:
            text = self.far.read(f"{LISTS}/{name}").decode()
        except StoreUnreachable:
            if self.copies.has(name):
                return self.copies.read(name)
            raise
        if not self.copies.has(name) or self.copies.read(name) != text:
            self.copies.write(name, text)
        return text

    def read_all(self) -> dict[str, tuple[int, str]]:
        found = self.far.read_all(self.far.names(LISTS))
        return {path.removeprefix(f"{LISTS}/"): (0, body.decode()) for path, body in found.items()}

    def write(self, name: str, text: str) -> None:
        self.far.write(f"{LISTS}/{name}", text.encode())
        self.copies.write(name, text)

    def has(self, name: str) -> bool:
        return self.far.has(f"{LISTS}/{name}")

    def remove(self, name: str) -> None:
        self.far.remove([f"{LISTS}/{name}"])
        self.copies.remove(name)

    def where(self, name: str) -> str:
        return f"{self.far.url}/{LISTS}/{name}"


def send_all(here: ArtifactStore, there: SharedStore, sent: Callable[[str, int], None]) -> int:
    """Carry what a local folder holds to a store that is shared; what is there already stays as it is.

    Parameters
    ----------
    sent : callable
        Told the name of each artifact and its bytes, once it is there.

    Returns
    -------
    int
        Artifacts and lists that were carried.
    """
    carried = 0
    with here.in_use(), there.in_use():
        for manifest in sorted(here.root.glob(f"[!.]*/{MANIFEST}")):
            kind, key = _named(manifest.parent.name)
            if not there.far.has(there._manifest(kind, key)):
                # Opened first: what is damaged is not carried.
                if (artifact := here.open_or_none(kind, key)) is None:
                    continue
                there.carry_away(manifest.parent, read_manifest(manifest.parent))
                carried += 1
                sent(manifest.parent.name, artifact.bytes)
        for name, (_, text) in here.lists.read_all().items():
            if not there.lists.has(name):
                there.lists.write(name, text)
                carried += 1
    return carried


def _folder_name(path: str) -> str:
    """The folder of a file of an artifact, from its path in the store."""
    return path.split("/")[-2]


def _named(folder: str) -> tuple[str, str]:
    """Kind and key of the artifact in a folder of this name."""
    kind, _, key = folder.rpartition("-")
    return kind, key


def _object(name: str, listed: Mapping[str, Any]) -> str:
    return f"{name}.{listed['blake2b']}.npy"
