"""The question put into other forms, by templates."""

from collections.abc import Sequence

from doppio.core.kinds import Setting, Settings
from doppio.core.question.kind import SEARCH_TERMS, Corpus, Wording

FIELDS = ("{question}", "{terms}", "{hint}")


class Templates:
    """`{question}` is the question without its mark, `{terms}` are its key terms, `{hint}` what the workspace says
    it is about."""

    name, title, order = "templates", "templates", 1
    settings: tuple[Setting, ...] = (
        Setting(
            "templates",
            "Templates, a line each",
            {"type": "string", "minLength": 1, "maxLength": 2000, "default": "{terms}", "format": "lines"},
            help=f"may name {', '.join(FIELDS)}",
        ),
    )

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        rule = SEARCH_TERMS.get("key-terms")
        told = {setting.name: setting.default for setting in rule.settings}
        values = {
            "{question}": question.strip().rstrip("?!. "),
            "{terms}": " ".join(rule.words(question, corpus, told) or {question: 1.0}),
            "{hint}": corpus.hint,
        }
        found = []
        for line in settings["templates"].splitlines():
            text = line
            for field, value in values.items():
                text = text.replace(field, value)
            text = " ".join(text.split())
            if text and text.casefold() != question.strip().casefold():
                found.append(Wording(text, f"template: {line.strip()}"))
        return found


KIND = Templates()
