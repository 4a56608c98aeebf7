"""The `question` part of a recipe: what happens before the search."""

from doppio.core.kinds import ANY, Setting, number, one_of_kinds, optional, several_of_kinds
from doppio.core.question.conditions import LONGEST
from doppio.core.question.joins.kind import BY_RANKS, JOINS
from doppio.core.question.kind import EVERY_WORD, SEARCH_TERMS, WORDINGS

MOST_WAYS, MOST_HINT = 6, 500
REWORDED = {"wordings": (ANY,)}
QUESTION: tuple[Setting, ...] = (
    one_of_kinds("terms", "Searched by", SEARCH_TERMS.name, EVERY_WORD),
    several_of_kinds("wordings", "Other wordings", WORDINGS.name, MOST_WAYS),
    one_of_kinds("join", "Their hits", JOINS.name, BY_RANKS, when=REWORDED),
    optional(
        number(
            "least_cosine",
            "Dropped below, cosine",
            -1,
            1,
            help="of a wording's vector to the question's; empty: none is",
            when=REWORDED,
        ),
        0.5,
    ),
    optional(
        number(
            "least_kept",
            "Dropped below, terms kept",
            0,
            1,
            help="share of the question's terms; empty: none is",
            when=REWORDED,
        )
    ),
    Setting(
        "hint",
        "About the workspace",
        {"type": "string", "maxLength": MOST_HINT, "default": ""},
        help="a few words that ways to reword may use",
        when=REWORDED,
    ),
    Setting(
        "conditions",
        "Only where",
        {"type": "string", "maxLength": LONGEST, "default": ""},
        help="such as `document is handbook/*, edition from 5`; empty: everything",
    ),
)
