"""What was served in a time: load, times by stage, what stayed empty, and how versions did beside each other."""

from collections import Counter, defaultdict
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.utils import timezone

from doppio.core.measure.intervals import wilson
from doppio.core.pipeline import ANSWER
from doppio.core.searching import ENCODE
from doppio.core.trace import CONTEXT, FUSED, RERANKED
from doppio.recipes.models import RecipeVersion
from doppio.serving.models import Published, Served
from doppio.serving.services import told

# Rows that figures are made of; of more, the latest.
MOST_ROWS = 20_000
BUCKETS = 48
LOW = 4
QUANTILES = {"median": 50, "p95": 95, "p99": 99}
# Steps before and after the branches, which may be called anything.
FIRST, LATE = ENCODE, (FUSED, RERANKED, CONTEXT, ANSWER, "all")
COLUMNS = ("at", "seconds", "pieces", "failed", "recipe_id", "thumb", "wrong", "beside", "key_id", "kind")


def figures(published: Published, hours: int, now: datetime | None = None) -> dict[str, Any]:
    """Figures of the last hours; whole numbers are counts, times are seconds."""
    now = now or timezone.now()
    since = now - timedelta(hours=hours)
    rows = list(published.served.filter(at__gte=since).order_by("-at").values(*COLUMNS)[:MOST_ROWS])
    step = timedelta(hours=hours) / BUCKETS
    load = [0] * BUCKETS
    for row in rows:
        load[min(int((row["at"] - since) / step), BUCKETS - 1)] += 1
    good = [row for row in rows if not row["failed"] or row["failed"].startswith("silent")]
    return {
        "hours": hours,
        "asked": len(rows),
        "of": published.served.filter(at__gte=since).count(),
        "begin": since,
        "load": load,
        "stages": _stages(good),
        "empty": sum(not row["pieces"] for row in good),
        "silent": sum(row["failed"].startswith("silent") for row in rows),
        "failed": sum(bool(row["failed"]) and not row["failed"].startswith("silent") for row in rows),
        "up": sum(row["thumb"] > 0 for row in rows),
        "down": sum(row["thumb"] < 0 or bool(row["wrong"]) for row in rows),
        "versions": _versions(rows),
        "beside": _beside(rows),
        "keys": dict(Counter(row["key_id"] for row in rows if row["key_id"])),
    }


def _stages(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Times by stage, in the order in which stages come."""
    times: dict[str, list[float]] = defaultdict(list)
    for row in rows:
        for stage, took in row["seconds"].items():
            times[stage].append(took)
    # Branches come between what is before and after them, in the order of their names.
    order = sorted(times, key=lambda stage: (LATE.index(stage) if stage in LATE else -1, stage != FIRST, stage))
    return [
        {
            "stage": stage,
            "count": len(times[stage]),
            **{name: round(float(np.percentile(times[stage], at)), 4) for name, at in QUANTILES.items()},
        }
        for stage in order
    ]


def _versions(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """What people thought of each version, with the share that liked it and where that lies, 95 % sure."""
    names = {one.pk: told(one) for one in RecipeVersion.objects.filter(pk__in={row["recipe_id"] for row in rows})}
    found = []
    for number, name in sorted(names.items()):
        own = [row for row in rows if row["recipe_id"] == number]
        up = sum(row["thumb"] > 0 and not row["wrong"] for row in own)
        down = sum(row["thumb"] < 0 or bool(row["wrong"]) for row in own)
        took = [row["seconds"]["all"] for row in own if "all" in row["seconds"]]
        found.append(
            {
                "id": number, "recipe": name, "asked": len(own), "up": up, "down": down,
                "liked": share_of(up, up + down), "median": round(float(np.median(took)), 4) if took else None,
            }
        )  # fmt: skip
    return found


def share_of(good: int, of: int) -> list[float]:
    """A share and the ends of its interval, each 0 to 1; nothing where nothing was counted."""
    return [round(value, 4) for value in (good / of, *wilson(good, of))] if of else []


def _beside(rows: list[dict[str, Any]]) -> dict[str, Any] | None:
    """How alike the passages of the second version were, and what it took; None where it was not asked."""
    own = [row for row in rows if row["beside"]]
    if not own:
        return None
    latest = own[0]["beside"]["recipe"]
    own = [row for row in own if row["beside"]["recipe"] == latest]
    recipe = RecipeVersion.objects.filter(pk=latest).first()
    first = np.array([row["seconds"].get("all", 0.0) for row in own])
    second, alike, biased = (np.array([row["beside"][name] for row in own]) for name in ("seconds", "overlap", "rbo"))
    return {
        "recipe": told(recipe) if recipe else "",
        "asked": len(own),
        "overlap": round(float(alike.mean()), 4),
        "rbo": round(float(biased.mean()), 4),
        "same": int((alike >= 1).sum()),
        "seconds": round(float(np.median(second)), 4),
        "first_seconds": round(float(np.median(first)), 4),
        "emptier": sum(not row["beside"]["pieces"] and row["pieces"] > 0 for row in own),
    }


def to_label(published: Published, most: int = 50) -> list[dict[str, Any]]:
    """Questions whose words are kept and that nobody took yet, those first that speak most for a label."""
    rows = list(published.served.filter(taken=False).exclude(question="").order_by("-at")[:MOST_ROWS])
    # Of those that nothing else speaks against, the lowest quarter.
    low = sorted(_low(row) for row in rows if _why(row)[0] == LOW)
    highest = low[(len(low) - 1) // 4] if low else 0.0
    seen: set[str] = set()
    found = []
    for row in rows:
        why = _why(row)
        if row.question in seen or (why[0] == LOW and _low(row) > highest):
            continue
        seen.add(row.question)
        found.append((why[0], _low(row), row, why[1]))
    found.sort(key=lambda one: (one[0], one[1]))
    return [
        {
            "request": row.request, "question": row.question, "why": why, "wrong": row.wrong, "at": row.at,
            "pieces": row.pieces, "answered": row.answered, "best": row.best,
        }
        for _, _, row, why in found[:most]
    ]  # fmt: skip


def _why(row: Served) -> tuple[int, str]:
    if row.wrong:
        return 0, "held to be wrong"
    if row.thumb < 0:
        return 1, "not liked"
    if row.failed:
        return 2, "not answered"
    if not row.pieces:
        return 3, "nothing found"
    return LOW, "low score"


def _low(row: Served) -> float:
    if row.answered is not None:
        return row.answered
    return row.best if row.best is not None else -np.inf
