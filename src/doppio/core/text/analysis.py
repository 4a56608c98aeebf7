"""Which terms of a text does the sparse index see?

Unicode normalisation, case folding, words, codes kept whole as well as in parts, stop words, stems, character
n-grams, pairs of signs for Chinese, Japanese and Korean, synonyms.
"""

import unicodedata
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import Any

import regex
import snowballstemmer

from doppio.core.errors import RecipeError
from doppio.core.text.stop_words import STOP_WORDS
from doppio.core.text.unspaced import UNSPACED, unspaced_words

# Languages with a stemmer, by their ISO 639-1 codes; "any" has neither stemmer nor stop words.
LANGUAGES = {
    "any": "", "ar": "arabic", "da": "danish", "de": "german", "el": "greek", "en": "english", "es": "spanish",
    "fi": "finnish", "fr": "french", "hu": "hungarian", "id": "indonesian", "it": "italian", "nl": "dutch",
    "no": "norwegian", "pt": "portuguese", "ro": "romanian", "ru": "russian", "sv": "swedish", "tr": "turkish",
}  # fmt: skip
# Goes up whenever the same settings yield other terms.
VERSION = 3
_PLAIN = ("language", "stem", "stop_words", "keep_codes", "cjk")
PAIRS, SINGLE = "pairs", "single"
SAME_AS = "≡"
_SIGNS = r"\p{Han}\p{Hiragana}\p{Katakana}ー"
# Hyphens that look alike, one of which keeps a line from ending there; and one that is not seen unless a line does.
_HYPHENS, _SOFT = "\u2010\u2011", "\u00ad"
_JOINTS = rf"._+@:/&#%\-{_HYPHENS}"
_APOSTROPHES = "'’ʼ"
_LETTER = rf"[[\p{{L}}\p{{N}}\p{{M}}]--[{_SIGNS}]]"
_TOKEN = regex.compile(
    rf"[\p{{L}}\p{{N}}]+(?:[{_JOINTS}]+[\p{{L}}\p{{N}}]+)+"
    rf"|[{_SIGNS}]+"
    rf"|{_LETTER}[{_LETTER}{_SOFT}]*(?:[{_APOSTROPHES}]\p{{L}}[\p{{L}}{_SOFT}]*)*",
    regex.V1,
)
_PART = regex.compile(rf"[\p{{L}}\p{{N}}\p{{M}}][\p{{L}}\p{{N}}\p{{M}}{_SOFT}]*")
_MARKS = regex.compile(rf"[{_JOINTS}]+")
_ALIKE = {ord(sign): "'" for sign in _APOSTROPHES} | {ord(sign): "-" for sign in _HYPHENS} | {ord(_SOFT): None}
# Articles and the like that lose their vowel before a word with one: l'eau, dell'acqua.
_ELIDED = {
    "fr": regex.compile(r"^(?:(?:jus|lors|puis|quoi|quel)?qu|[cdjlmnst])'(?=\p{L})"),
    "it": regex.compile(r"^(?:(?:d|n|s|a|da|de|ne|su|co|que|be|gran)?ll?|un|[cdmstvg]|dov|cos|com|anch)'(?=\p{L})"),
}
_HAN = regex.compile(r"\p{Han}")
_IDEOGRAPHS = regex.compile(rf"[{_SIGNS}]+")
_HANGUL = regex.compile(r"\p{Hangul}{2,}")
WHOLE, JOINED, PART, WORD, STOPPED, PAIR, SIGN, GRAM, SYNONYM = (
    "code kept whole", "code without its joints", "part of a code", "word", "stop word", "pair of signs", "sign",
    "n-gram", "synonym",
)  # fmt: skip
# Longer tokens are whole clauses of a script without spaces: they hardly come again.
_LONGEST_KNOWN = 48


@dataclass(frozen=True)
class Term:
    """One term, the range of the original text that it comes from, and what it is."""

    text: str
    start: int
    end: int
    kind: str = WORD


@dataclass(frozen=True)
class Step:
    """What became of one token of a text; `terms` are what the index sees, and may be none."""

    start: int
    end: int
    token: str
    folded: str
    stopped: bool
    stem: str
    terms: tuple[Term, ...]


@dataclass(frozen=True)
class Analysis:
    """Settings of the analysis.

    language : one of `LANGUAGES`, for stems and stop words
    stem, stop_words, keep_codes : each can be switched off
    grams : (low, high) or None; words become their character n-grams of these lengths
    cjk : "pairs" or "single", how a run of Chinese, Japanese or Korean signs is cut; Chinese signs stand beside
        their pairs (Nie, Gao, Zhang and Zhou, "On the use of words and n-grams for Chinese information retrieval",
        IRAL 2000)
    synonyms : groups of words or short phrases that mean the same
    """

    language: str = "en"
    stem: bool = True
    stop_words: bool = True
    keep_codes: bool = True
    grams: tuple[int, int] | None = None
    cjk: str = PAIRS
    synonyms: tuple[tuple[str, ...], ...] = ()

    @classmethod
    def of(cls, settings: Mapping[str, Any]) -> "Analysis":
        """From the `analysis` part of a recipe."""
        grams = settings.get("grams")
        return cls(
            **{key: settings[key] for key in _PLAIN if key in settings},
            grams=(grams["from"], grams["to"]) if grams else None,
            synonyms=tuple(tuple(group) for group in settings.get("synonyms", ())),
        )  # fmt: skip

    def terms(self, text: str) -> list[Term]:
        """Terms in the order of the text.

        Notes
        -----
        A code is a run of letters and digits joined by one of `. _ + @ : / & # % -` that holds a digit or
        an `@`. With `keep_codes` it yields itself whole (`e-417`), itself without its joints (`e417`, so
        that either spelling finds the other) and its parts; joined words without a digit yield parts only.
        A word or phrase of a synonym group yields, besides its own terms, one that stands for the group.
        """
        return [term for step in self.steps(text) for term in step.terms]

    def asked(self, text: str) -> tuple[Term, ...]:
        """The same for questions, which come again: those of the last ones are known."""
        return self._asked(text)

    @cached_property
    def _asked(self) -> Callable[[str], tuple[Term, ...]]:
        return lru_cache(maxsize=256)(lambda text: tuple(self.terms(text)))

    def steps(self, text: str) -> Iterator[Step]:
        """Token by token, what the analysis makes of a text."""
        found = (step for match in _TOKEN.finditer(text) for step in self._token(match[0], match.start()))
        return self._with_synonyms(found) if self.synonyms else found

    def numbering(self) -> "Numbering":
        """A fast way from texts to numbers of terms."""
        return Numbering(self)

    def _token(self, raw: str, start: int) -> Iterator[Step]:
        if not UNSPACED.search(raw):
            yield self._step(raw, start)
            return
        for place, word in unspaced_words(raw):
            yield self._step(word, start + place)

    def _step(self, raw: str, start: int) -> Step:
        end = start + len(raw)
        terms: list[Term] = []
        if _MARKS.search(raw):
            if self.keep_codes and (any(sign.isdigit() for sign in raw) or "@" in raw):
                whole = _fold(raw)
                terms.append(Term(whole, start, end, WHOLE))
                # As a word that is spelled so from the start would be.
                joined = _stemmed(_MARKS.sub("", whole), self.language) if self.stem else _MARKS.sub("", whole)
                if any(sign.isalpha() for sign in joined) and "@" not in whole:
                    terms.append(Term(joined, start, end, JOINED))
            for part in _PART.finditer(raw):
                kind = PART if terms else WORD
                terms += [replace(term, kind=kind) for term in self._word(part[0], start + part.start())[1]]
            folded = _fold(raw)
            return Step(start, end, raw, folded, False, folded, tuple(terms))
        if _IDEOGRAPHS.fullmatch(raw) or (self.cjk == PAIRS and _HANGUL.fullmatch(raw)):
            return Step(start, end, raw, _fold(raw), False, _fold(raw), tuple(self._signs(raw, start)))
        stem, terms = self._word(raw, start)
        return Step(start, end, raw, _fold(raw), not stem, stem, tuple(terms))

    def _signs(self, raw: str, start: int) -> Iterator[Term]:
        if self.cjk != PAIRS or len(raw) == 1:
            for place, sign in enumerate(raw, start):
                yield Term(_fold(sign), place, place + 1)
            return
        for place, sign in enumerate(raw, start):
            if _HAN.match(sign):
                yield Term(_fold(sign), place, place + 1, SIGN)
            pair = raw[place - start : place - start + 2]
            if len(pair) == 2:
                yield Term(_fold(pair), place, place + 2, PAIR)

    def _word(self, raw: str, start: int) -> tuple[str, list[Term]]:
        """Stem of a word and its terms; both empty for a stop word."""
        word = _fold(_small_turkish(raw) if self.language == "tr" else raw)
        if word.endswith("'s") and self.language == "en":
            word = word[:-2]
        if self.language in _ELIDED:
            word = _ELIDED[self.language].sub("", word)
        if self.stop_words and word in STOP_WORDS.get(self.language, ()):
            return "", []
        stem = _stemmed(word, self.language) if self.stem else word
        end = start + len(raw)
        if self.grams is None:
            return stem, [Term(stem, start, end)]
        low, high = self.grams
        if len(word) <= low:
            return stem, [Term(word, start, end, GRAM)]
        return stem, [
            Term(word[place : place + width], start + min(place, len(raw)), min(start + place + width, end), GRAM)
            for width in range(low, min(high, len(word)) + 1)
            for place in range(len(word) - width + 1)
        ]

    @cached_property
    def _groups(self) -> dict[str, list[tuple[tuple[str, ...], str]]]:
        """Phrases of stems by their first stem, each with the term of its group, the longest first."""
        plain = replace(self, synonyms=(), stop_words=False)
        found: dict[str, list[tuple[tuple[str, ...], str]]] = {}
        for group in self.synonyms:
            phrases = [tuple(step.stem for step in plain.steps(phrase)) for phrase in group]
            for phrase in phrases:
                if phrase:
                    found.setdefault(phrase[0], []).append((phrase, SAME_AS + " ".join(phrases[0])))
        return {first: sorted(phrases, key=lambda entry: -len(entry[0])) for first, phrases in found.items()}

    def _with_synonyms(self, steps: Iterator[Step]) -> Iterator[Step]:
        plain = replace(self, synonyms=(), stop_words=False)
        listed = list(steps)
        stems = [step.stem or plain._word(step.token, 0)[0] for step in listed]
        at = 0
        while at < len(listed):
            step = listed[at]
            for phrase, name in self._groups.get(stems[at], ()):
                if tuple(stems[at : at + len(phrase)]) == phrase:
                    last = listed[at + len(phrase) - 1]
                    step = replace(step, terms=(*step.terms, Term(name, step.start, last.end, SYNONYM)))
                    break
            yield step
            at += 1


class Numbering:
    """Numbers terms as they come; what a token yields is worked out once.

    vocabulary : dict from term to its number, in the order of the numbers
    """

    def __init__(self, analysis: Analysis) -> None:
        self.vocabulary: dict[str, int] = {}
        self._analysis = analysis
        self._known: dict[str, tuple[int, ...]] = {}
        self._numbers: Callable[[str], list[int]] = self._slowly if analysis.synonyms else self._by_token

    def __call__(self, text: str) -> list[int]:
        """Numbers of the terms of a text, in its order."""
        return self._numbers(text)

    def placed(self, text: str) -> tuple[list[int], list[int]]:
        """Numbers of the terms of a text, and at which word each stands, counted from 0; stop words count too."""
        if self._analysis.synonyms:
            steps = list(self._analysis.steps(text))
            placed = [(term.text, place) for place, step in enumerate(steps) for term in step.terms]
            return [self.number(term) for term, _ in placed], [place for _, place in placed]
        numbers: list[int] = []
        places: list[int] = []
        for place, raw in enumerate(_TOKEN.findall(text)):
            found = self._of_token(raw)
            numbers.extend(found)
            places.extend([place] * len(found))
        return numbers, places

    def number(self, term: str) -> int:
        """The number of a term as the index has it, a new one where no text had it yet."""
        return self.vocabulary.setdefault(term, len(self.vocabulary))

    def _slowly(self, text: str) -> list[int]:
        return [self.number(term.text) for term in self._analysis.terms(text)]

    def _by_token(self, text: str) -> list[int]:
        known = self._known
        found: list[int] = []
        for raw in _TOKEN.findall(text):
            numbers = known.get(raw)
            found.extend(self._of_token(raw) if numbers is None else numbers)
        return found

    def _of_token(self, raw: str) -> tuple[int, ...]:
        numbers = self._known.get(raw)
        if numbers is None:
            steps = self._analysis._token(raw, 0)
            numbers = tuple(self.number(term.text) for step in steps for term in step.terms)
            if len(raw) <= _LONGEST_KNOWN:
                self._known[raw] = numbers
        return numbers


def read_synonyms(text: str, name: str) -> list[list[str]]:
    """Groups of synonyms from a text file: one group a line, parted by commas; `#` begins a comment.

    Raises
    ------
    RecipeError
        If a line holds fewer than two words or phrases; the message names the line.
    """
    groups = []
    for number, line in enumerate(text.splitlines(), 1):
        kept = line.partition("#")[0].strip().removeprefix("\ufeff")
        if not kept:
            continue
        group = [phrase.strip() for phrase in kept.split(",") if phrase.strip()]
        if len(group) < 2:
            raise RecipeError(
                f"{name}, line {number}: a group needs two words or phrases at least, parted by commas; "
                f"found {kept!r}"
            )
        groups.append(group)
    return groups


@lru_cache(maxsize=200_000)
def _fold(raw: str) -> str:
    """One spelling of what is read as the same: case, compatible forms, apostrophes, hyphens, soft hyphens."""
    folded = unicodedata.normalize("NFKC", raw).casefold().translate(_ALIKE)
    # A capital I with a dot folds to an i with a dot above its dot.
    return unicodedata.normalize("NFC", folded.replace("i\u0307", "i"))


def _small_turkish(raw: str) -> str:
    """Turkish has two letters i: with a dot and without one, in both cases."""
    return raw.replace("I\u0307", "i").replace("İ", "i").replace("I", "ı")


@lru_cache(maxsize=200_000)
def _stemmed(word: str, language: str) -> str:
    if not LANGUAGES[language]:
        return word
    stem: str = snowballstemmer.stemmer(LANGUAGES[language]).stemWord(word)
    return stem
