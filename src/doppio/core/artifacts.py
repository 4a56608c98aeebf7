"""A folder of arrays with a manifest: written whole or not at all, checksummed, memory-mapped.

An artifact is keyed by its kind and a fingerprint of what it was made from. It is written into a
temporary folder beside its place, flushed to disk and renamed, so a reader never sees half of one.
"""

import hashlib
import json
import os
import shutil
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.errors import ArtifactDamaged

FORMAT = "doppio-artifact/1"
MANIFEST = "manifest.json"
READ_BYTES = 1 << 22


@dataclass(frozen=True)
class Artifact:
    """An opened artifact: its arrays are mapped from disk, read-only."""

    kind: str
    fingerprint: str
    folder: Path
    arrays: Mapping[str, NDArray[Any]]
    meta: Mapping[str, Any]
    bytes: int


class ArtifactStore:
    """The artifacts below one folder."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def place(self, kind: str, key: str) -> Path:
        return self.root / f"{kind}-{key}"

    def has(self, kind: str, key: str) -> bool:
        return (self.place(kind, key) / MANIFEST).exists()

    def write(self, kind: str, key: str, arrays: Mapping[str, NDArray[Any]], meta: Mapping[str, Any]) -> Artifact:
        """Write an artifact atomically and open it.

        Raises
        ------
        OSError
            If the disk is full or not writable; nothing half-written stays behind.
        """
        place = self.place(kind, key)
        draft = self.root / f".{place.name}.{uuid.uuid4().hex}"
        draft.mkdir(parents=True)
        try:
            listed = {}
            for name, array in arrays.items():
                path = draft / f"{name}.npy"
                with path.open("wb") as file:
                    np.save(file, np.ascontiguousarray(array), allow_pickle=False)
                    file.flush()
                    os.fsync(file.fileno())
                listed[name] = {"bytes": path.stat().st_size, "blake2b": _digest(path)}
            manifest = {"format": FORMAT, "kind": kind, "fingerprint": key, "arrays": listed, "meta": meta}
            body = json.dumps(manifest, ensure_ascii=False, sort_keys=True)
            sealed = {"manifest": manifest, "blake2b": _text_digest(body)}
            with (draft / MANIFEST).open("w", encoding="utf-8") as file:
                json.dump(sealed, file, ensure_ascii=False, sort_keys=True)
                file.flush()
                os.fsync(file.fileno())
            _sync_folder(draft)
            if place.exists():
                self.remove(kind, key)
            draft.rename(place)
            _sync_folder(self.root)
        finally:
            if draft.exists():
                shutil.rmtree(draft)
        return self.open(kind, key)

    def open(self, kind: str, key: str) -> Artifact:
        """Open an artifact, verify its checksums and map its arrays.

        Raises
        ------
        FileNotFoundError
            If there is no such artifact.
        ArtifactDamaged
            If a file is missing, shortened or altered.
        """
        place = self.place(kind, key)
        if not place.exists():
            raise FileNotFoundError(place)
        manifest = _read_manifest(place)
        if manifest["kind"] != kind or manifest["fingerprint"] != key:
            raise ArtifactDamaged(f"{place}: holds {manifest['kind']}-{manifest['fingerprint']} instead")
        arrays: dict[str, NDArray[Any]] = {}
        total = 0
        for name, listed in manifest["arrays"].items():
            path = place / f"{name}.npy"
            if not path.exists():
                raise ArtifactDamaged(f"{path}: missing; delete {place} and build it again")
            if path.stat().st_size != listed["bytes"] or _digest(path) != listed["blake2b"]:
                raise ArtifactDamaged(f"{path}: does not match its checksum; delete {place} and build it again")
            arrays[name] = np.load(path, mmap_mode="r", allow_pickle=False)
            total += listed["bytes"]
        return Artifact(kind, key, place, arrays, manifest["meta"], total)

    def keys(self, kind: str, family: str) -> list[str]:
        """Keys of the artifacts of a kind whose meta names this family, the youngest first."""
        found = []
        for place in self.root.glob(f"{kind}-*"):
            try:
                if _read_manifest(place)["meta"].get("family") == family:
                    found.append((place.stat().st_mtime_ns, place.name.removeprefix(f"{kind}-")))
            except (ArtifactDamaged, OSError):
                continue
        return [key for _, key in sorted(found, reverse=True)]

    def newest(self, kind: str, family: str, *, but: str = "") -> Artifact | None:
        """The youngest sound artifact of a kind and family, other than the one with key `but`."""
        for key in self.keys(kind, family):
            try:
                if key != but:
                    return self.open(kind, key)
            except (ArtifactDamaged, FileNotFoundError):
                continue
        return None

    def describe(self, kind: str, key: str) -> tuple[int, Mapping[str, Any]]:
        """Size in bytes and meta of an artifact from its manifest alone, without reading its arrays."""
        manifest = _read_manifest(self.place(kind, key))
        return sum(listed["bytes"] for listed in manifest["arrays"].values()), manifest["meta"]

    def remove(self, kind: str, key: str) -> None:
        """Take an artifact out of sight at once, then delete its files."""
        place = self.place(kind, key)
        if place.exists():
            doomed = self.root / f".{place.name}.{uuid.uuid4().hex}.old"
            place.rename(doomed)
            shutil.rmtree(doomed)

    def open_or_none(self, kind: str, key: str) -> Artifact | None:
        """Open an artifact; one that is absent is None, and so is a damaged one, which is removed."""
        try:
            return self.open(kind, key)
        except FileNotFoundError:
            return None
        except ArtifactDamaged:
            self.remove(kind, key)
            return None


def _read_manifest(place: Path) -> dict[str, Any]:
    path = place / MANIFEST
    try:
        sealed = json.loads(path.read_text(encoding="utf-8"))
        manifest: dict[str, Any] = sealed["manifest"]
        body = json.dumps(manifest, ensure_ascii=False, sort_keys=True)
        whole = sealed["blake2b"] == _text_digest(body) and manifest["format"] == FORMAT
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise ArtifactDamaged(f"{path}: cannot be read; delete {place} and build it again") from error
    if not whole:
        raise ArtifactDamaged(f"{path}: does not match its checksum; delete {place} and build it again")
    return manifest


def _digest(path: Path) -> str:
    digest = hashlib.blake2b(digest_size=16)
    with path.open("rb") as file:
        while block := file.read(READ_BYTES):
            digest.update(block)
    return digest.hexdigest()


def _text_digest(text: str) -> str:
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
