"""Which version answers under a name in this process: another one is opened beside it first, and then takes over."""

import logging
import os
import secrets
import threading
import time
from collections.abc import Mapping

from django.db import connection
from django.utils import timezone

from doppio.core.errors import DoppioError
from doppio.library.planned import planned_once
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import to_be_asked, warming
from doppio.recipes.services import core_recipe
from doppio.serving.models import Opened, Published
from doppio.serving.rows import BEHIND, STAMPS

log = logging.getLogger(__name__)
# Seconds between two looks at what is published, between two times that a process says what answers there although
# nothing changed, and until one that says nothing is held to have ended.
LOOK_EVERY, TELL_EVERY, SILENT_FOR = 1.0, 5.0, 15.0
RUN = secrets.token_hex(4)
# As long as these rows are the same nothing of what is published is read again.
ROWS = f"""
SELECT string_agg(concat_ws(' ', {STAMPS}), ',' ORDER BY p.id)
FROM serving_published p {BEHIND} WHERE w.removed_at IS NULL
"""


class Versions:
    """What this process answers with, by what is published.

    looked_after : whether a thread looks for new versions; without one a question waits for its version to open
    """

    def __init__(self) -> None:
        self._answering: dict[int, RecipeVersion] = {}
        self._warm: set[int] = set()
        self._told: dict[int, int] = {}
        self._told_at = 0.0
        self._there: tuple[str | None, list[Published]] = "", []
        self._lock = threading.Lock()
        self.looked_after = False

    @property
    def process(self) -> str:
        """This process: forked ones are told apart, and from those of an earlier run."""
        return f"{os.getpid()}-{RUN}"

    def of(self, published: Published) -> RecipeVersion:
        """The version that answers here now."""
        with self._lock:
            found = self._answering.get(published.pk)
            if found is None or not self.looked_after:
                found = self._answering[published.pk] = published.recipe
            return found

    def look(self) -> None:
        """Open versions that were released since, let them answer, and tell what answers here."""
        there = self._published()
        for published in there:
            current = self._answering.get(published.pk)
            if current is None or current.pk != published.recipe_id:
                if not self._opened(published.recipe):
                    continue
                with self._lock:
                    self._answering[published.pk] = published.recipe
            if published.second is not None:
                self._opened(published.second)
        with self._lock:
            for gone in set(self._answering) - {published.pk for published in there}:
                del self._answering[gone]
            answering = dict(self._answering)
        self._tell(answering)

    def _published(self) -> list[Published]:
        with planned_once() as cursor:
            cursor.execute(ROWS)
            rows: str | None = cursor.fetchone()[0]
        if rows != self._there[0]:
            there = Published.objects.filter(workspace__removed_at=None)
            self._there = rows, list(there.select_related("workspace", "recipe__workspace", "second__workspace"))
        return self._there[1]

    def _tell(self, answering: Mapping[int, RecipeVersion]) -> None:
        """Write down what answers here, where that changed or has not been said for a while."""
        told = {number: recipe.pk for number, recipe in answering.items()}
        if told == self._told and time.monotonic() - self._told_at < TELL_EVERY:
            return
        self._told, self._told_at = told, time.monotonic()
        rows = [
            Opened(published_id=number, process=self.process, recipe=recipe, seen_at=timezone.now())
            for number, recipe in answering.items()
        ]
        Opened.objects.bulk_create(
            rows, update_conflicts=True, unique_fields=["published", "process"], update_fields=["recipe", "seen_at"]
        )

    def _opened(self, recipe: RecipeVersion) -> bool:
        try:
            pipeline = to_be_asked(recipe.workspace, core_recipe(recipe))
            if recipe.pk not in self._warm and len(pipeline.chunks):
                pipeline.ask(warming(recipe.workspace))
        except (DoppioError, OSError) as error:
            # The one before goes on answering; this is tried again.
            log.warning("%s v%s is not opened: %s", recipe.name, recipe.version, error)
            return False
        self._warm.add(recipe.pk)
        return True


versions = Versions()


def look_after(stopping: threading.Event | None = None) -> None:
    """Look for new versions, and write down what was served, until the process ends."""
    from doppio.serving.recording import recorder

    versions.looked_after = recorder.looked_after = True
    while not (stopping and stopping.is_set()):
        try:
            versions.look()
            recorder.write()
        except Exception as error:
            # The database may be away for a moment; what is to be written stays.
            log.warning("what is published could not be looked at: %s", error)
            connection.close()
        time.sleep(LOOK_EVERY)
