"""Wordings from elsewhere: a registered writer is given the question and what the workspace is about."""

from collections.abc import Sequence

from doppio.core.kinds import WRITER, Setting, Settings, registered, whole
from doppio.core.question.kind import Corpus, Wording


class Remote:
    """See the module."""

    name, title, order = "remote", "a registered writer", 5
    summary = "{most} wordings"
    settings: tuple[Setting, ...] = (
        registered("writer", "Writer", WRITER, help="as `./doppio model add-remote` registered it"),
        whole("most", "Wordings, at most", 1, 8, 3),
    )

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        name = settings["writer"]
        return [Wording(text, f"writer {name}") for text in corpus.write(name, question, settings["most"])]


KIND = Remote()
