"""What people think of answers, and the questions that come of it."""

import time

from django.db import transaction

from doppio.core.errors import DoppioError, QuestionError
from doppio.library.models import Workspace
from doppio.questions.models import Question, QuestionSet
from doppio.questions.writing import write_question
from doppio.serving.models import Published, Served
from doppio.serving.recording import recorder
from doppio.serving.redaction import redacted

# Where questions from use wait for a label; it is measured only once somebody says so.
FROM_USE = "From use"
# Seconds.
WRITTEN_WITHIN = 1.5


@transaction.atomic
def say(
    published: Published, request: str, thumb: int | None = None, wrong: str | None = None, question: str = ""
) -> Question | None:
    """Note what somebody thinks of an answer; one that is not liked becomes a question that waits for a label.

    Returns
    -------
    Question or None
        The question that was made; None where nothing speaks against the answer, its words are not known, or it
        waits already.

    Raises
    ------
    DoppioError
        If nothing was served under that id.
    """
    row = _served(published, request)
    if row is None:
        raise DoppioError(f"request: {request!r} was not served under {published.name}, or is no longer known")
    if thumb is not None:
        row.thumb = thumb
    if wrong is not None:
        row.wrong = redacted(wrong, published.redact)
    text = row.question or redacted(question.strip(), published.redact)
    made = take(published.workspace, text) if text and (row.thumb < 0 or row.wrong) and not row.taken else None
    row.taken = row.taken or made is not None
    row.save(update_fields=["thumb", "wrong", "taken"])
    return made


def _served(published: Published, request: str) -> Served | None:
    """What was served under an id; another process that did so may have it still to be written, as each does every
    second."""
    until = time.monotonic() + WRITTEN_WITHIN
    while True:
        recorder.write()
        row = Served.objects.select_for_update().filter(published=published, request=request).first()
        if row is not None or not recorder.looked_after or time.monotonic() > until:
            return row
        time.sleep(0.1)


def take(workspace: Workspace, text: str) -> Question | None:
    """Put a question where those from use wait for a label; None where it stands there already."""
    into, _ = QuestionSet.objects.get_or_create(workspace=workspace, name=FROM_USE, defaults={"measured": False})
    try:
        with transaction.atomic():
            return write_question(workspace, text, into=into, tags=("from use",))
    except QuestionError:
        return None
