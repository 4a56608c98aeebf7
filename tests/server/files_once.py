"""The interface's files, looked at once in a process: every client of a test has middleware of its own."""

from typing import Any, ClassVar

from whitenoise.middleware import WhiteNoiseMiddleware


class FilesOnce(WhiteNoiseMiddleware):
    """As it is served, but for what would be found again."""

    found: ClassVar[dict[tuple[str, str | None], dict[str, Any]]] = {}

    def add_files(self, root: Any, prefix: str | None = None) -> None:
        key = str(root), prefix
        if key not in self.found:
            super().add_files(root, prefix)
            self.found[key] = dict(self.files)
        self.files.update(self.found[key])
