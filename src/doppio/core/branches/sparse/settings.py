"""Settings of the analysis and of the fields of a sparse branch, and what can be wrong with them."""

from collections.abc import Iterator
from typing import Any

from doppio.core.kinds import Setting, Settings, choice, group, number, object_schema, optional, switch, whole
from doppio.core.showing import shown
from doppio.core.text.analysis import LANGUAGES, PAIRS, SINGLE

GROUPS, LONGEST_GROUP, LONGEST_WORD = 5000, 50, 100
LANGUAGE_TITLES = {
    code: name.capitalize() if name else "none: words as they stand" for code, name in LANGUAGES.items()
}
CJK = {PAIRS: "pairs of signs", SINGLE: "single signs"}
GRAMS = (
    whole("from", "Letters of the shortest", 1, 10, built=True),
    whole("to", "Letters of the longest", 1, 10, built=True),
)
ANALYSIS = (
    choice("language", "Language", LANGUAGE_TITLES, "en", built=True),
    switch("stem", "stem words", True, built=True),
    switch("stop_words", "leave out stop words", True, built=True),
    switch("keep_codes", "keep codes whole too", True, built=True),
    choice("cjk", "Chinese, Japanese, Korean", CJK, PAIRS, built=True),
    optional(group("grams", "Words become n-grams", GRAMS, built=True)),
    # Its groups are looked at by `_synonym_problems`: there may be a quarter of a million words in them.
    Setting("synonyms", "Synonyms", {"type": "array", "default": []}, built=True),
)
OWN_ANALYSIS = optional(group("analysis", "Analysis", ANALYSIS, built=True))


def _field(name: str, title: str, weight: float) -> Setting:
    inside = (
        number("weight", f"Weight of {title}", 0, 100, weight),
        number("b", f"b of {title}", 0, 1, 0.75),
        OWN_ANALYSIS,
    )
    return Setting(name, title, object_schema(inside, {}), inside=inside, may_lack=name != "body")


FIELDS = (_field("title", "title", 2), _field("headings", "headings", 1.5), _field("body", "body", 1))
# Which fields there are is a matter of the recipe; the body alone has to be among them.
FIELDS_SCHEMA = object_schema(FIELDS, {})


def analysis_problems(analysis: Settings) -> Iterator[tuple[str, str]]:
    """What is wrong with an analysis beyond the range of each setting."""
    grams = analysis["grams"]
    if grams and grams["from"] > grams["to"]:
        yield "grams.from", f"{grams['from']} is above grams.to, {grams['to']}"
    for where, wrong in _synonym_problems(analysis["synonyms"]):
        yield f"synonyms{where}", wrong


def _synonym_problems(groups: list[Any]) -> Iterator[tuple[str, str]]:
    if len(groups) > GROUPS:
        yield "", f"{len(groups):,} groups; {GROUPS:,} are allowed"
        return
    for row, found in enumerate(groups):
        where = f"[{row}]"
        if not isinstance(found, list):
            yield where, f"{shown(found)} is not a list"
        elif not 2 <= len(found) <= LONGEST_GROUP:
            yield where, f"{len(found)} words or phrases; a group has 2 to {LONGEST_GROUP}"
        else:
            for place, word in enumerate(found):
                if not isinstance(word, str):
                    yield f"{where}[{place}]", f"{shown(word)} is not a text"
                elif not 1 <= len(word) <= LONGEST_WORD:
                    yield f"{where}[{place}]", f"{len(word)} characters; 1 to {LONGEST_WORD} are allowed"
