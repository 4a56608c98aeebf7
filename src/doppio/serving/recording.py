"""What was served, written down some at a time, so that no question waits for it."""

import json
import threading
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.utils import timezone

from doppio.library.planned import planned_once
from doppio.serving.models import Key, Published, Served
from doppio.serving.redaction import redacted

# What cannot be written for so long that there is more than this is given up, the oldest first.
MOST = 10_000
A_WRITE = 500
# Rows as columns: for so many small ones, which come all the time, records would take longer than to be written. What
# was taken down meanwhile has no place for them; a key that was is left out.
WRITE = """
INSERT INTO serving_served (published_id, recipe_id, key_id, request, kind, question, at, seconds, pieces, best,
    answered, failed, beside, thumb, wrong, taken)
SELECT p.id, r.id, k.id, t.request, t.kind, t.question, t.at, t.seconds::jsonb, t.pieces, t.best,
    t.answered, t.failed, t.beside::jsonb, 0, '', false
FROM unnest(%s::bigint[], %s::bigint[], %s::bigint[], %s::text[], %s::text[], %s::text[], %s::timestamptz[],
    %s::text[], %s::int[], %s::float8[], %s::float8[], %s::text[], %s::text[])
    AS t(published, recipe, key, request, kind, question, at, seconds, pieces, best, answered, failed, beside)
JOIN serving_published p ON p.id = t.published JOIN recipes_recipeversion r ON r.id = t.recipe
LEFT JOIN serving_key k ON k.id = t.key
ON CONFLICT DO NOTHING
"""


@dataclass(slots=True)
class _Row:
    """A row to be written; see `Served`."""

    published: int
    recipe: int
    key: int | None
    request: str
    kind: str
    question: str
    at: datetime
    seconds: dict[str, float] = field(default_factory=dict)
    pieces: int = 0
    best: float | None = None
    answered: float | None = None
    failed: str = ""
    beside: dict[str, Any] = field(default_factory=dict)

    @property
    def values(self) -> tuple[Any, ...]:
        return (
            self.published, self.recipe, self.key, self.request, self.kind, self.question, self.at,
            json.dumps(self.seconds), self.pieces, self.best, self.answered, self.failed, json.dumps(self.beside),
        )  # fmt: skip


class Recorder:
    """Rows of what this process served, until they are written.

    looked_after : whether a thread writes them; without one each is written at once
    """

    def __init__(self) -> None:
        self._rows: deque[_Row] = deque(maxlen=MOST)
        self._lock = threading.Lock()
        self.looked_after = False

    def note(
        self,
        published: Published,
        key: Key | None,
        *,
        request: str,
        recipe: int,
        kind: str,
        question: str,
        **told: Any,
    ) -> None:
        """Write down a question; its words only where they are kept, without what the rules take out."""
        words = redacted(question, published.redact) if published.keep_days else ""
        row = _Row(published.pk, recipe, key.pk if key else None, request, kind, words, timezone.now(), **told)
        self._rows.append(row)
        if not self.looked_after:
            self.write()

    def beside(self, request: str, told: Mapping[str, Any]) -> None:
        """Add what a second version made of a question."""
        with self._lock:
            for row in self._rows:
                if row.request == request:
                    row.beside = dict(told)
                    return
        Served.objects.filter(request=request).update(beside=dict(told))

    def write(self) -> None:
        """Write what there is."""
        while self._rows:
            with self._lock:
                rows = [self._rows.popleft() for _ in range(min(A_WRITE, len(self._rows)))]
                try:
                    with planned_once() as cursor:
                        cursor.execute(
                            WRITE, [list(column) for column in zip(*(row.values for row in rows), strict=True)]
                        )
                except Exception:
                    self._rows.extendleft(reversed(rows))
                    raise


recorder = Recorder()
