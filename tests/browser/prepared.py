"""Corpora that browser tests start from: loaded and measured once a run, then copied, records and artifacts."""

import contextlib
import fcntl
import json
import shutil
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from doppio.command.demo_data import load_demo
from doppio.core.progress import Silent
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import pipelines
from doppio.trials.services import latest_trial, measure_recipe
from tests.core.corpus import ROOT
from tests.running import databases

DEMO = ROOT / "demo"
FILES = (
    "alarms/alarm-codes.csv", "evacuation/gondola.md", "minutes/operations-meetings-2026.docx",
    "parts/spare-parts.csv", "passengers/dogs.html", "rules/ice-and-snow.md", "rules/wind-and-lightning.md",
    "safety/winter-safety-plan.pdf",
)  # fmt: skip
# A file of tickets, each of them a document.
TICKETS, KEPT_TICKETS = "logs/fault-tickets.jsonl", 4
# Two of them are broad enough to be cut, two have no answer.
QUESTIONS = (
    "q001", "q002", "q004", "q007", "q009", "q010", "q021", "q024", "q026", "q027",
    "q035", "q037", "q046", "q052", "q057", "q065", "q066", "q111", "q099", "q107",
)  # fmt: skip


def _small() -> None:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        for name in FILES:
            (folder / "documents" / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(DEMO / "documents" / name, folder / "documents" / name)
        tickets = (DEMO / "documents" / TICKETS).read_text().splitlines(keepends=True)
        (folder / "documents" / TICKETS).parent.mkdir()
        (folder / "documents" / TICKETS).write_text("".join(tickets[:KEPT_TICKETS]))
        shutil.copy(DEMO / "documents" / "doppio-sources.json", folder / "documents")
        rows = (DEMO / "questions.jsonl").read_text().splitlines()
        (folder / "questions.jsonl").write_text("\n".join(row for row in rows if json.loads(row)["id"] in QUESTIONS))
        (folder / "recipes").symlink_to(DEMO / "recipes")
        load_demo(folder, ("two-branch-1", "two-branch-2"))
    _measure()


def _whole() -> None:
    with built_over_demo(Path(settings.DOPPIO_ARTIFACTS)):
        load_demo(DEMO, ("sparse-alone", "dense-alone", "two-branch-2"))
        _measure()


def _measure() -> None:
    # The last one wants the most of the encoder, which goes once over all chunks for it and for the others.
    for recipe in RecipeVersion.objects.order_by("-pk"):
        if latest_trial(recipe) is None:
            measure_recipe(recipe, Silent())


@dataclass(frozen=True)
class Prepared:
    """A database and its artifacts that are made once a run, by whoever wants them first."""

    name: str
    make: Callable[[], None]

    def restore(self) -> None:
        """Lay the records and artifacts of this process as they were made."""
        own = settings.DATABASES["default"]["NAME"]
        place = _shelf()
        with (place / f"{self.name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not (place / self.name).exists():
                leave()
                self.make()
                databases.copy(own, f"prepared_{self.name}")
                for folder in _folders():
                    shutil.copytree(folder, place / f"{self.name}.draft" / folder.name)
                (place / f"{self.name}.draft").rename(place / self.name)
        databases.copy(f"prepared_{self.name}", own)
        for folder in _folders():
            shutil.rmtree(folder, ignore_errors=True)
            shutil.copytree(place / self.name / folder.name, folder)
        pipelines._open.clear()


def leave() -> None:
    """Leave no records and no artifacts behind."""
    databases.copy(databases.template(), settings.DATABASES["default"]["NAME"])
    for folder in _folders():
        shutil.rmtree(folder, ignore_errors=True)


def _shelf() -> Path:
    """What all lanes of a run share."""
    place = _folders()[0].parent.parent / "prepared"
    place.mkdir(exist_ok=True)
    return place


@contextlib.contextmanager
def built_over_demo(folder: Path) -> Iterator[None]:
    """What is built over the whole demo, in a folder of artifacts: fingerprints find there what another class has
    built. Who comes first builds it inside, and the others wait for that."""
    place = _shelf() / "built"
    with (_shelf() / "built.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if place.exists():
            fcntl.flock(lock, fcntl.LOCK_UN)
            shutil.copytree(place, folder)
            yield
            return
        yield
        draft = Path(tempfile.mkdtemp(dir=_shelf()))
        shutil.copytree(folder, draft / "built")
        (draft / "built").rename(place)


def _folders() -> tuple[Path, Path]:
    """Where this process keeps artifacts, and the files that documents came from."""
    return Path(settings.DOPPIO_ARTIFACTS), Path(settings.DOPPIO_FILES)


SMALL, WHOLE = Prepared("small", _small), Prepared("whole", _whole)
