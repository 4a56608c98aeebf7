"""What an artifact's folder holds: the manifest with the checksums of its arrays."""

import hashlib
import json
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

from doppio.core.errors import ArtifactDamaged
from doppio.core.seen_files import stamp

FORMAT = "doppio-artifact/1"
MANIFEST = "manifest.json"
READ_BYTES = 1 << 22


def sealed(manifest: Mapping[str, Any]) -> str:
    """The text of a manifest's file."""
    return json.dumps({"manifest": manifest, "blake2b": _seal(manifest)}, ensure_ascii=False, sort_keys=True)


def unsealed(text: bytes, where: str) -> dict[str, Any]:
    """The manifest of a file.

    Raises
    ------
    ArtifactDamaged
        If it is not what was written; `where` names it.
    """
    try:
        found = json.loads(text)
        manifest: dict[str, Any] = found["manifest"]
        whole = found["blake2b"] == _seal(manifest) and manifest["format"] == FORMAT
    except (ValueError, KeyError, TypeError) as error:
        raise ArtifactDamaged(f"{where}/{MANIFEST}: cannot be read; delete {where} and build it again") from error
    if not whole:
        raise ArtifactDamaged(f"{where}/{MANIFEST}: does not match its checksum; delete {where} and build it again")
    return manifest


def read_manifest(folder: Path) -> dict[str, Any]:
    """The manifest of a folder; see `unsealed` for errors."""
    try:
        text = (folder / MANIFEST).read_bytes()
    except OSError as error:
        raise ArtifactDamaged(f"{folder / MANIFEST}: cannot be read; delete {folder} and build it again") from error
    return unsealed(text, str(folder))


def stamps_of(folder: Path, names: Iterable[str]) -> dict[str, list[int]]:
    """Stamps of the files of arrays."""
    return {name: stamp(folder / f"{name}.npy") for name in names}


def digest_of(path: Path, read: Callable[[int], None] = lambda _: None) -> str:
    """The checksum of a file; `read` is told how many bytes were read now."""
    with path.open("rb") as file:
        return digest_of_blocks(iter(lambda: file.read(READ_BYTES), b""), read)


def digest_of_blocks(blocks: Iterable[bytes], read: Callable[[int], None]) -> str:
    """The checksum of what comes in blocks, as that of a file."""
    digest = hashlib.blake2b(digest_size=16)
    for block in blocks:
        digest.update(block)
        read(len(block))
    return digest.hexdigest()


def bytes_of(manifest: Mapping[str, Any]) -> int:
    """What all arrays of an artifact take."""
    return sum(listed["bytes"] for listed in manifest["arrays"].values())


def _seal(manifest: Mapping[str, Any]) -> str:
    body = json.dumps(manifest, ensure_ascii=False, sort_keys=True)
    return hashlib.blake2b(body.encode(), digest_size=16).hexdigest()
