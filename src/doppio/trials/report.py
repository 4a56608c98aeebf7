"""A report of a trial that stands alone: for somebody who has no account, as a page or a PDF."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from django.db.models import Prefetch
from django.template.loader import render_to_string

from doppio.core.errors import DoppioError
from doppio.core.measure.comparing import Floats, in_words, mean_intervals
from doppio.core.measure.intervals import wilson
from doppio.core.measure.ledger import CAUSES, CHUNKS, DELIVERED, HELD_EMPTY, RIGHTLY_EMPTY
from doppio.core.measure.measuring import EDITION
from doppio.core.measure.questions import wording_groups
from doppio.core.trace import CONTEXT
from doppio.library.corpus import corpus_of
from doppio.questions.models import AnswerSpan, Question
from doppio.recipes.services import core_recipe
from doppio.trials.breakdown import breakdown
from doppio.trials.comparing import NOT_BY_QUESTION, Measure, Measured, difference, measured
from doppio.trials.figures import REACHED
from doppio.trials.models import TrialRecord

# Columns of the table, and what is compared with a baseline.
COLUMNS = ("mrr", "recall@1", "recall@5", "recall@10", "ndcg@5", "precision@5")
COMPARED = (REACHED, "recall@5", "mrr", "ndcg@5")
FINE = (DELIVERED, RIGHTLY_EMPTY, HELD_EMPTY)
# Kinds of questions below this many say nothing alone.
LEAST = 3
FAMILY = "Source Sans 3"
SCRIPTS = ("latin", "latin-ext", "cyrillic", "cyrillic-ext", "greek", "greek-ext", "vietnamese")


@dataclass(frozen=True)
class Reported:
    """What a report shows, in the order of the page."""

    trial: TrialRecord
    against: TrialRecord | None
    own: Measured | None
    other: Measured | None

    def context(self) -> dict[str, Any]:
        trial = self.trial
        questions = self._questions()
        low, high = wilson(trial.ledger[DELIVERED], trial.answerable)
        space = trial.workspace
        return {
            "trial": trial,
            "recipe": trial.recipe,
            "workspace": space.name,
            "share": trial.ledger[DELIVERED] / max(trial.answerable, 1),
            "low": low,
            "high": high,
            "current": (trial.corpus, trial.marked, trial.measures) == (corpus_of(space), space.marked, EDITION),
            "ledger": _ledger(trial),
            "levels": [{"stage": stage, "count": trial.levels[stage],
                        "width": 100 * trial.levels[stage] / max(trial.answerable, 1)}
                       for stage in self._line() if stage in trial.levels],
            "columns": self._columns(),
            "stages": self._stages(),
            "intervals": self._intervals(questions),
            "kinds": self._kinds(questions),
            "compared": self._compared(questions),
            "against": self.against,
            "lost": self._lost(),
            "body": json.dumps(core_recipe(trial.recipe).body, indent=2, ensure_ascii=False),
            "origin": _lines(trial.origin),
            "costs": self.own.table.costs if self.own else {},
            "seconds": sum(trial.seconds.values()),
        }  # fmt: skip

    def _questions(self) -> list[Question]:
        labels = Prefetch("spans", AnswerSpan.objects.filter(grade__gt=0).select_related("document"))
        rows = self.trial.workspace.questions.filter(set__measured=True).select_related("set")
        return list(rows.prefetch_related(labels).order_by("position"))

    def _line(self) -> list[str]:
        return ["documents", CHUNKS, *core_recipe(self.trial.recipe).stages]

    def _columns(self) -> list[str]:
        own = self.trial.stages.get(CONTEXT, {})
        return [name for name in COLUMNS if name in own]

    def _stages(self) -> list[dict[str, Any]]:
        columns = self._columns()
        return [
            {"stage": stage, "figures": [found.get(name) for name in columns]}
            for stage in core_recipe(self.trial.recipe).stages
            for found in [self.trial.stages.get(stage)]
            if found is not None
        ]

    def _intervals(self, questions: Sequence[Question]) -> list[dict[str, Any]]:
        """Means of what is delivered, with their intervals."""
        known = {name: self._values(self.own, name, questions) for name in COMPARED}
        known = {name: values for name, values in known.items() if not np.isnan(values).all()}
        if not known:
            return []
        found = mean_intervals(np.stack(list(known.values())), groups=wording_groups(questions))
        return [
            {"metric": name, "mean": float(np.nanmean(values)), "low": low, "high": high}
            for (name, values), (low, high) in zip(known.items(), found, strict=True)
        ]

    @staticmethod
    def _values(found: Measured | None, metric: str, questions: Sequence[Question]) -> Floats:
        return found.values(Measure(metric), questions) if found else np.full(len(questions), np.nan)

    def _kinds(self, questions: Sequence[Question]) -> list[dict[str, Any]]:
        """The share of delivered answers by what questions have in common, the worst first."""
        own = self._values(self.own, REACHED, questions)
        shares = [one for one in breakdown(questions, own, own) if one.questions >= LEAST and one.kind != "document"]
        kinds: dict[str, list[dict[str, Any]]] = {}
        for one in sorted(shares, key=lambda one: one.after):
            row = {"name": one.name, "questions": one.questions, "share": one.after, "width": 100 * one.after}
            kinds.setdefault(one.kind, []).append(row)
        return [{"kind": kind, "rows": rows} for kind, rows in kinds.items() if len(rows) > 1]

    def _compared(self, questions: Sequence[Question]) -> list[dict[str, Any]]:
        found = []
        for name in COMPARED:
            before, after = (self._values(one, name, questions) for one in (self.other, self.own))
            if not np.isnan(after - before).all():
                whole = difference(before, after, questions)
                found.append({"metric": name, "whole": whole, "said": in_words(whole, whole.p)})
        return found

    def _lost(self) -> list[dict[str, Any]]:
        rows = (
            self.trial.rows.exclude(cause__in=FINE).select_related("question").order_by("cause", "question__position")
        )
        return [{"text": row.question.text, "cause": row.cause, "tags": ", ".join(row.question.tags)} for row in rows]


def _ledger(trial: TrialRecord) -> list[dict[str, Any]]:
    total = max(trial.questions, 1)
    return [
        {
            "cause": cause,
            "count": trial.ledger[cause],
            "width": 100 * trial.ledger[cause] / total,
            "fine": cause in FINE,
        }
        for cause in CAUSES
        if trial.ledger.get(cause)
    ]


def _lines(origin: dict[str, Any]) -> list[tuple[str, str]]:
    """Names and values, one line each."""
    found = []
    for name, value in origin.items():
        if isinstance(value, dict):
            found += [(f"{name}: {key}", str(own)) for key, own in value.items()]
        else:
            found.append((name, str(value)))
    return found


def page(trial: TrialRecord, against: TrialRecord | None, *, faces: str = "") -> str:
    """The report as HTML that needs nothing else.

    Raises
    ------
    DoppioError
        If the other trial was measured before figures were kept question by question.
    """
    shown = Reported(trial, against, measured(trial), measured(against) if against else None)
    if against and shown.own and not shown.other:
        raise DoppioError(NOT_BY_QUESTION)
    return render_to_string("report.html", {**shown.context(), "faces": faces})


def pdf(trial: TrialRecord, against: TrialRecord | None, fonts: Path) -> bytes:
    """The report as PDF, with the interface's own fonts from a folder.

    Raises
    ------
    DoppioError
        If this machine has no library to lay text out with; names the package.
    """
    try:
        from weasyprint import HTML  # type: ignore[import-untyped]
        from weasyprint.urls import URLFetcherResponse  # type: ignore[import-untyped]
    except OSError as error:
        raise DoppioError(
            "A PDF needs the library Pango; install it with: apt-get install libpangoft2-1.0-0 libharfbuzz-subset0. "
            "The report as a page can be printed too."
        ) from error
    text = page(trial, against, faces=_faces(fonts))

    def fetch(url: str, *_: object, **__: object) -> Any:
        return URLFetcherResponse(url, _font(url, fonts), {"Content-Type": "font/woff2"})

    found = HTML(string=text, url_fetcher=fetch).write_pdf()
    assert isinstance(found, bytes)
    return found


def _faces(fonts: Path) -> str:
    """CSS of the fonts that are there."""
    found = []
    for script in SCRIPTS:
        for weight in (400, 600):
            name = f"{FAMILY.lower().replace(' ', '-')}-{script}-{weight}-normal"
            for file in sorted(fonts.glob(f"{name}-*.woff2"))[:1]:
                # Every script is a family of its own here, since ranges of a family's signs are not looked at.
                found.append(f"@font-face{{font-family:'{script}';font-weight:{weight};src:url(font:{file.name})}}")
    return "".join(found)


def _font(url: str, fonts: Path) -> bytes:
    """A font by its name; nothing else is fetched, whatever a document's title or a question may hold."""
    parts = urlsplit(url)
    if parts.scheme != "font" or "/" in parts.path:
        raise ValueError("nothing is fetched")
    return (fonts / parts.path).read_bytes()
