"""Keys that were looked up lately, with all that hangs on them: read again as soon as one of their rows is another.

A question comes with a key, whose publication, recipe and workspace take longer to read than to search.
"""

import threading
from collections import OrderedDict

from doppio.library.planned import planned_once
from doppio.serving.models import Key
from doppio.serving.rows import BEHIND, STAMPS

ROWS = f"""
SELECT concat_ws(' ', k.xmin, k.ctid, {STAMPS})
FROM serving_key k JOIN serving_published p ON p.id = k.published_id {BEHIND}
WHERE k.digest = %s AND p.name = %s AND w.removed_at IS NULL
"""


class KnownKeys:
    """Keys by the digest of their secret and the name of what they are for."""

    def __init__(self, kept: int = 256) -> None:
        self._kept = kept
        self._lock = threading.Lock()
        self._known: OrderedDict[tuple[str, str], tuple[str, Key]] = OrderedDict()

    def get(self, digest: str, name: str) -> Key | None:
        """The key as it is now; None where there is none."""
        with planned_once() as cursor:
            cursor.execute(ROWS, [digest, name])
            rows = cursor.fetchone()
        if rows is None:
            return None
        with self._lock:
            before = self._known.get((digest, name))
            if before is not None and before[0] == rows[0]:
                self._known.move_to_end((digest, name))
                return before[1]
        found = (
            Key.objects.select_related("published__workspace", "published__recipe", "published__second")
            .filter(digest=digest, published__name=name, published__workspace__removed_at=None)
            .first()
        )
        if found is not None:
            with self._lock:
                self._known[digest, name] = rows[0], found
                while len(self._known) > self._kept:
                    self._known.popitem(last=False)
        return found


known_keys = KnownKeys()
