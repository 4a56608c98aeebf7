"""The folder of a writer, an answerer or an expander that runs elsewhere: where it is asked, nothing that is run."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from doppio.core.errors import ModelFolderError
from doppio.core.kinds import ANSWERER, EXPANDER, WRITER
from doppio.core.models.folder import FORMAT, MANIFEST, checked_name, read_json

REMOTE_WRITER, REMOTE_ANSWERER, REMOTE_EXPANDER = "remote-writer", "remote-answerer", "remote-expander"
# By what a folder says it is, what people and endpoints call it.
TEXTS = {REMOTE_WRITER: WRITER, REMOTE_ANSWERER: ANSWERER, REMOTE_EXPANDER: EXPANDER}


@dataclass(frozen=True)
class TextFolder:
    """A manifest.

    kind : one of `TEXTS`
    version : as the endpoint says it; what was built by another one is built anew
    settings : the `url`, and what else its endpoint is asked with
    """

    path: Path
    name: str
    title: str
    kind: str
    version: str
    settings: Mapping[str, Any]


def open_text_folder(path: Path) -> TextFolder:
    """Read a manifest.

    Raises
    ------
    ModelFolderError
        If it is missing, or lacks something; names the field.
    """
    where, found = path / MANIFEST, read_json(path / MANIFEST)
    if found.get("format") != FORMAT:
        raise ModelFolderError(f"{where}: format: {found.get('format')!r} is not {FORMAT!r}")
    if found.get("kind") not in TEXTS:
        raise ModelFolderError(f"{where}: kind: {found.get('kind')!r} is not one of {', '.join(TEXTS)}")
    settings = found.get("settings")
    if not isinstance(settings, dict) or not isinstance(settings.get("url"), str):
        raise ModelFolderError(f"{where}: settings.url: missing")
    name = checked_name(found.get("name"), where)
    title, version = str(found.get("title") or name), str(found.get("version", ""))
    return TextFolder(path, name, title, str(found["kind"]), version, settings)
