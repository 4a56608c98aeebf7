"""Rankings from elsewhere: a TREC run is measured on the labels here, and stands among the recipes."""

import zlib
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction

from doppio.core.errors import DoppioError
from doppio.core.formats.runs import measured_run, run_lines
from doppio.core.measure.measuring import EDITION
from doppio.core.measure.trial import CUTOFFS
from doppio.library.corpus import core_documents, corpus_of
from doppio.library.models import Workspace
from doppio.library.moment import of_one_moment
from doppio.questions.services import core_questions
from doppio.trials.figures import packed
from doppio.trials.models import OutsideRun

# A run of 10,000 questions to a depth of 100 has about 50 MB.
LARGEST = 100 << 20


def add(space: Workspace, name: str, data: bytes, user: User) -> OutsideRun:
    """Measure a run and keep it; one of the same name is replaced.

    Raises
    ------
    DoppioError
        If it is no run, or names what is not here; says which line.
    """
    if len(data) > LARGEST:
        raise DoppioError(f"{name}: {len(data) >> 20} MB are more than a run may have ({LARGEST >> 20} MB)")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise DoppioError(f"{name}: not UTF-8 at byte {error.start}") from error
    if not text.strip():
        raise DoppioError(f"{name}: the file is empty")
    figures = _figures(space, name, text)
    with transaction.atomic():
        space.outside_runs.filter(name=name).delete()
        return OutsideRun.objects.create(workspace=space, name=name, text=deflated(text), made_by=user, **figures)


def measure_again(run: OutsideRun) -> OutsideRun:
    """Measure a run on the documents and labels of now.

    Raises
    ------
    DoppioError
        If it names what is not here any more; says which line.
    """
    for name, value in _figures(run.workspace, run.name, text_of(run)).items():
        setattr(run, name, value)
    run.save()
    return run


def _figures(space: Workspace, name: str, text: str) -> dict[str, Any]:
    with of_one_moment():
        space.refresh_from_db(fields=["marked"])
        documents, questions = core_documents(space), core_questions(space)
        corpus, marked = corpus_of(space), space.marked
    numbers = dict(space.questions.values_list("identity", "pk"))
    rankings = run_lines(text.splitlines(), name, documents, questions)
    found = measured_run(rankings, documents, questions, cutoffs=CUTOFFS)
    metrics = list(dict.fromkeys(metric for row in found.values() for metric in row))
    values = np.full((len(found), 1, len(metrics)), np.nan, np.float32)
    for place, row in enumerate(found.values()):
        for metric, value in row.items():
            values[place, 0, metrics.index(metric)] = value
    return {
        "corpus": corpus,
        "marked": marked,
        "measures": EDITION,
        "questions": [numbers[identity] for identity in found],
        "metrics": metrics,
        "values": packed(values),
    }


def deflated(text: str) -> bytes:
    """A file's text as it is kept."""
    return zlib.compress(text.encode(), 6)


def text_of(run: OutsideRun) -> str:
    """The file, as it was given."""
    return zlib.decompress(bytes(run.text)).decode()


def names_of(run: OutsideRun) -> list[str | None]:
    """Ids of the questions that its figures stand for; None for one that has been removed."""
    known = dict(run.workspace.questions.values_list("pk", "identity"))
    return [known.get(question) for question in run.questions]
