"""Files of a folder whose checksums were found right, by what the file system says of them: none is read through
again until it says something else."""

import json
import uuid
from collections.abc import Mapping
from pathlib import Path

SEEN = "seen.json"


def stamp(path: Path) -> list[int]:
    """What the file system says of a file: it changes with every writing."""
    found = path.stat()
    return [found.st_size, found.st_ino, found.st_mtime_ns, found.st_ctime_ns]


def seen_in(folder: Path) -> dict[str, list[int]]:
    """Stamps of the files whose checksums were found right, by name; empty where nothing is known."""
    try:
        found: dict[str, list[int]] = json.loads((folder / SEEN).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def note_seen(folder: Path, stamps: Mapping[str, list[int]]) -> None:
    """Keep the stamps of files whose checksums are right; not being able to costs time later and nothing else."""
    draft = folder / f".{SEEN}.{uuid.uuid4().hex}"
    try:
        draft.write_text(json.dumps(stamps), encoding="utf-8")
        draft.replace(folder / SEEN)
    except OSError:
        draft.unlink(missing_ok=True)
