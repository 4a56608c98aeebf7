"""Built indexes beside the tables of a workspace's file, so that nothing is built again elsewhere.

They are read as arrays and written anew, and only where nothing of that fingerprint is there: what stands is never
replaced by what came in a file.
"""

import json
import re
import shutil
import uuid
import zipfile
from collections import defaultdict
from pathlib import Path

import numpy as np

from doppio.core.errors import ArtifactDamaged, DoppioError
from doppio.core.progress import Progress
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.segments import Part, ReadingList
from doppio.library.carrying import attached
from doppio.library.corpus import corpus_of
from doppio.library.models import Workspace
from doppio.recipes.builds import build, builder
from doppio.recipes.services import core_recipe

ARTIFACTS, LISTS, META = "artifacts", "lists", "meta.json"
_NAME = re.compile(rf"{ARTIFACTS}/([a-z0-9-]+)/([a-z0-9-]+)/([a-z0-9_-]+\.npy|{re.escape(META)})")
_LIST = re.compile(rf"{LISTS}/([a-z0-9-]+)\.json")


class Indexes:
    """See the module."""

    def write(self, workspace: Workspace, out: zipfile.ZipFile, progress: Progress) -> None:
        core, corpus = builder(), corpus_of(workspace)
        wanted: dict[tuple[str, str], None] = {}
        for row in workspace.recipes.all():
            keys = core.keys(corpus, core_recipe(row))
            if core.missing(keys):
                continue
            reading = core.lists.read(keys.chunks)
            if f"{LISTS}/{keys.chunks}.json" not in out.namelist():
                parts = [{"key": part.key, "documents": part.documents.tolist()} for part in reading.parts]
                out.writestr(f"{LISTS}/{keys.chunks}.json", json.dumps({"family": reading.family, "parts": parts}))
            wanted |= dict.fromkeys(core.artifacts(keys))
        progress.start("write indexes", len(wanted), "artifacts")
        for kind, key in wanted:
            artifact = core.store.open(kind, key)
            out.writestr(f"{ARTIFACTS}/{kind}/{key}/{META}", json.dumps(artifact.meta))
            for path in sorted(core.store.folder_of(kind, key).glob("*.npy")):
                out.write(path, f"{ARTIFACTS}/{kind}/{key}/{path.name}")
            progress.advance(1)

    def read(self, workspace: Workspace, source: zipfile.ZipFile, progress: Progress) -> None:
        core = builder()
        found: dict[tuple[str, str], list[str]] = defaultdict(list)
        for name in source.namelist():
            match = _NAME.fullmatch(name)
            if match:
                found[match[1], match[2]].append(match[3])
        progress.start("read indexes", len(found), "artifacts")
        with core.store.in_use():
            for (kind, key), names in found.items():
                if META in names and not core.store.has(kind, key):
                    _take(core.store, source, kind, key, [name for name in names if name != META])
                progress.advance(1)
            for name in source.namelist():
                match = _LIST.fullmatch(name)
                if match and not core.lists.has(match[1]):
                    body = json.loads(source.read(name))
                    parts = tuple(Part(one["key"], np.array(one["documents"], np.int64)) for one in body["parts"])
                    core.lists.write(match[1], ReadingList(body["family"], parts))
        self._record(workspace, progress)

    @staticmethod
    def _record(workspace: Workspace, progress: Progress) -> None:
        """Have it known what is built; what is not as it should be is left to the next trial."""
        core, corpus = builder(), corpus_of(workspace)
        for row in workspace.recipes.all():
            recipe = core_recipe(row)
            try:
                if not core.missing(core.keys(corpus, recipe)):
                    build(workspace, recipe, progress)
            except (DoppioError, FileNotFoundError):
                continue


def _take(store: ArtifactStore, source: zipfile.ZipFile, kind: str, key: str, names: list[str]) -> None:
    draft = store.root / f".carried.{uuid.uuid4().hex}"
    draft.mkdir(parents=True)
    try:
        arrays: dict[str, Path] = {}
        for name in names:
            path = draft / name
            with source.open(f"{ARTIFACTS}/{kind}/{key}/{name}") as packed, path.open("wb") as file:
                shutil.copyfileobj(packed, file, 1 << 20)
            # It has to be a plain array before it is kept under that name.
            np.load(path, mmap_mode="r", allow_pickle=False)
            arrays[path.stem] = path
        store.write(kind, key, arrays, json.loads(source.read(f"{ARTIFACTS}/{kind}/{key}/{META}")))
    except (OSError, ValueError) as error:
        raise ArtifactDamaged(f"{kind} {key}: not an index ({error})") from error
    finally:
        shutil.rmtree(draft, ignore_errors=True)


def connect() -> None:
    """Register the attachment."""
    attached(Indexes())
