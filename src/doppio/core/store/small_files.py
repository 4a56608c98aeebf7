"""Small files by name that are replaced whole: a reader has the old one or the new one."""

import os
import re
import uuid
from pathlib import Path
from typing import Protocol

DRAFT = re.compile(r"\..+\.[0-9a-f]{32}(\.old)?")


class SmallFiles(Protocol):
    """Texts by name."""

    def read(self, name: str) -> str:
        """The text; FileNotFoundError where there is none."""

    def read_all(self) -> dict[str, tuple[int, str]]:
        """All of them: for each name when it was written, in nanoseconds since 1970, and the text."""

    def write(self, name: str, text: str) -> None: ...
    def has(self, name: str) -> bool: ...
    def remove(self, name: str) -> None: ...
    def where(self, name: str) -> str:
        """What to call a file when something is wrong with it."""


class FolderFiles:
    """Those of a local folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def read(self, name: str) -> str:
        return self.path(name).read_text(encoding="utf-8")

    def read_all(self) -> dict[str, tuple[int, str]]:
        found = {}
        for path in self.folder.glob("[!.]*"):
            try:
                found[path.name] = path.stat().st_mtime_ns, path.read_text(encoding="utf-8")
            except (FileNotFoundError, UnicodeDecodeError):
                continue
        return found

    def write(self, name: str, text: str) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        draft = self.folder / f".{name}.{uuid.uuid4().hex}"
        try:
            with draft.open("w", encoding="utf-8") as file:
                file.write(text)
                file.flush()
                os.fsync(file.fileno())
            draft.replace(self.path(name))
        finally:
            draft.unlink(missing_ok=True)

    def has(self, name: str) -> bool:
        return self.path(name).exists()

    def remove(self, name: str) -> None:
        self.path(name).unlink(missing_ok=True)

    def where(self, name: str) -> str:
        return str(self.path(name))

    def path(self, name: str) -> Path:
        return self.folder / name
