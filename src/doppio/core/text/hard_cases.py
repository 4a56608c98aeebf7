"""Spellings that are easily taken for different words, or for the same one: language by language."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from doppio.core.text.analysis import Analysis

_SOFT, _CLOSE, _MARK = "\N{SOFT HYPHEN}", "\N{NON-BREAKING HYPHEN}", "\N{COMBINING DOT ABOVE}"


@dataclass(frozen=True)
class HardCase:
    """Two spellings, whether a question with one should find a text with the other, and what is hard about them."""

    one: str
    other: str
    why: str
    meet: bool = True


@dataclass(frozen=True)
class Met:
    """What an analysis makes of a hard case: the terms that both spellings have."""

    case: HardCase
    shared: tuple[str, ...]

    @property
    def right(self) -> bool:
        return bool(self.shared) == self.case.meet


EVERY = (
    HardCase("E-417", "E417", "a code with its joint and without"),
    HardCase(f"E{_CLOSE}417", "E-417", "a hyphen that keeps a line from ending"),
    HardCase("LN-0417-R", "LN-0471-R", "codes that share a part, by that part alone"),
    HardCase(f"gon{_SOFT}dola", "gondola", "a hyphen that is seen at the end of a line only"),
    HardCase("ﬁve", "five", "letters joined in print"),
    HardCase("ＷＩＮＤ", "wind", "letters of full width"),
    HardCase("found@brackenhorn.example", "brackenhorn", "a part of an address"),
    HardCase("缆车停运", "停运", "a word of two signs within a run"),
    HardCase("缆车停运", "车", "a single sign within a run"),
    HardCase("山の線", "山", "a single sign beside kana"),
    HardCase("케이블카", "케이블", "the beginning of a word of syllables"),
    HardCase("ห้ามใช้กระเช้าเมื่อลมแรง", "กระเช้า", "a Thai word within a sentence"),
    HardCase("ຫ້າມໃຊ້ກະເຊົ້າ", "ກະເຊົ້າ", "a Lao word within a sentence"),
    HardCase("ហាមប្រើកាបូបខ្សែ", "ខ្សែ", "a Khmer word within a sentence"),
)
CASES = {
    "ar": (
        HardCase("كــابل", "كابل", "a letter drawn long"),
        HardCase("كَابِل", "كابل", "vowels that are written and not"),
        HardCase("أسلاك", "اسلاك", "alef with its hamza and without"),
    ),
    "da": (HardCase("svævebanen", "svævebane", "the article at the end"),),
    "de": (
        HardCase("Straße", "STRASSE", "a letter that has two capitals"),
        HardCase("Seilbahnen", "Seilbahn", "the plural"),
        HardCase("Wörter", "Worte", "umlaut of the plural"),
    ),
    "el": (HardCase("ΆΝΕΜΟΣ", "άνεμος", "the sigma at the end of a word"),),
    "en": (
        HardCase("O’Brien", "O'Brien", "apostrophes of print and of the keyboard"),
        HardCase("the operator’s", "operator", "the possessive"),
        HardCase("swinging", "swings", "forms of a verb"),
        HardCase("heat-proof", "heat proof", "words joined by a hyphen"),
        HardCase("E-417s", "E417s", "a code in the plural"),
    ),
    "es": (HardCase("cables", "cable", "the plural"),),
    "fi": (HardCase("köysirataa", "köysirata", "a case"),),
    "fr": (
        HardCase("l’eau", "eau", "an article without its vowel"),
        HardCase("qu’arrive", "arrive", "a word that loses its vowel"),
        HardCase("aujourd’hui", "hui", "one word, though it looks like two", meet=False),
    ),
    "hu": (HardCase("kötelek", "kötelet", "endings of number and case"),),
    "id": (HardCase("menarik", "tarik", "a prefix that changes the letter after it"),),
    "it": (HardCase("dell’acqua", "acqua", "an article joined to its word"),),
    "nl": (HardCase("kabels", "kabel", "the plural"), HardCase("ĳzel", "ijzel", "i and j as one letter")),
    "no": (HardCase("taubanen", "taubane", "the article at the end"),),
    "pt": (HardCase("cabos", "cabo", "the plural"),),
    "ro": (HardCase("cablurile", "cabluri", "the article at the end"),),
    "ru": (
        HardCase("канаты", "каната", "endings of number and case"),
        HardCase("счётчик", "счетчик", "a letter whose dots are left out in print"),
    ),
    "sv": (HardCase("linbanan", "linbana", "the article at the end"),),
    "tr": (
        HardCase("İSTASYON", "istasyon", "the capital of the i with a dot"),
        HardCase(f"I{_MARK}stasyon", "istasyon", "the same, as a letter and a mark"),
        HardCase("ISPARTA", "ısparta", "the capital of the i without a dot"),
        HardCase("Irmak", "İrmak", "two letters, not one", meet=False),
    ),
}


def met(analysis: Analysis) -> Iterator[Met]:
    """What an analysis makes of the hard cases of its language, and of those that all languages have."""
    analysis = replace(analysis, synonyms=())
    for case in (*CASES.get(analysis.language, ()), *EVERY):
        other = {term.text for term in analysis.terms(case.other)}
        shared = dict.fromkeys(term.text for term in analysis.terms(case.one) if term.text in other)
        yield Met(case, tuple(shared))
