"""Wordings from elsewhere: a registered writer is given the question and what the workspace is about."""

from collections.abc import Sequence

from doppio.core.kinds import Setting, Settings, whole
from doppio.core.question.kind import WRITER, Corpus, Wording


class Remote:
    """See the module."""

    name, title, order = "remote", "a registered writer", 5
    summary = "{most} wordings"
    settings: tuple[Setting, ...] = (
        Setting("writer", "Writer", {"type": "string", "pattern": r"^[a-z0-9-]{1,64}\Z", "format": WRITER},
                help="as `./doppio model add-remote` registered it"),
        whole("most", "Wordings, at most", 1, 8, 3),
    )  # fmt: skip

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        name = settings["writer"]
        return [Wording(text, f"writer {name}") for text in corpus.write(name, question, settings["most"])]


KIND = Remote()
