"""What was served, written down some at a time, so that no question waits for it."""

import threading
from collections import deque
from collections.abc import Mapping
from typing import Any

from django.db import transaction
from django.utils import timezone

from doppio.serving.models import Key, Published, Served
from doppio.serving.redaction import redacted

# What cannot be written for so long that there is more than this is given up, the oldest first.
MOST = 10_000
A_WRITE = 500


class Recorder:
    """Rows of what this process served, until they are written.

    looked_after : whether a thread writes them; without one each is written at once
    """

    def __init__(self) -> None:
        self._rows: deque[Served] = deque(maxlen=MOST)
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
        row = Served(
            published=published, key=key, request=request, recipe_id=recipe, kind=kind, question=words,
            at=timezone.now(), **told,
        )  # fmt: skip
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
                there = set(
                    Published.objects.filter(pk__in={row.published_id for row in rows}).values_list("pk", flat=True)
                )
                try:
                    with transaction.atomic():
                        # What was taken down meanwhile has no place for them.
                        Served.objects.bulk_create(
                            [row for row in rows if row.published_id in there], ignore_conflicts=True
                        )
                except Exception:
                    self._rows.extendleft(reversed(rows))
                    raise


recorder = Recorder()
