"""A manual as a corpus with questions: whole pages, the headings that are asked taken out of their own places."""

import hashlib
import itertools
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from doppio.core.text.document import CODE, HEADING, PAGE, PARAGRAPH, Block, Document, DocumentBuilder
from doppio.core.text.outline import sections_of
from training.details import DETAIL, details
from training.sections import KINDS, LONGEST, OTHER, SHORTEST, TOPIC, kind_of, spoken

# Characters of a corpus, about 100,000 tokens; and of one page, so that no page is all of a corpus.
MOST_TEXT, MOST_PAGE = 420_000, 90_000
MOST_HEADINGS, MOST_ABSENT, MOST_DETAILS = 130, 26, 90
# Pages whose headings ask something come first, for this share of a corpus; the others come by chance.
ASKING_SHARE = 0.5
EVERY_ABSENT = 6


@dataclass(frozen=True)
class Asked:
    """A question and where it is answered: (document, start, end) in characters; nowhere where that was taken out."""

    text: str
    kind: str
    spans: tuple[tuple[int, int, int], ...]


@dataclass(frozen=True)
class Corpus:
    """Documents and the questions that are asked of them."""

    documents: list[Document]
    questions: list[Asked]


@dataclass(frozen=True)
class _Heading:
    """A heading that asks: its page, its block, the blocks of its own text."""

    page: int
    block: int
    body: range
    text: str
    kind: str


def corpus(documents: Sequence[Document], title: str) -> Corpus:
    """Choose pages and questions of a manual.

    Parameters
    ----------
    documents : its pages
    title : what a page is called whose own title is asked
    """
    documents = [part for document in _each_once(documents) for part in _parts(document)]
    candidates = _candidates(documents)
    pages = _pages(documents, candidates)
    asking = sorted(
        (heading for heading in candidates if heading.page in pages),
        key=lambda heading: (KINDS.index(heading.kind), _shuffled(heading.text)),
    )[: MOST_HEADINGS + MOST_ABSENT]
    absent = asking[EVERY_ABSENT - 1 :: EVERY_ABSENT][:MOST_ABSENT]
    there = [heading for heading in asking if heading not in absent]
    kept: list[Document] = []
    questions: list[Asked] = []
    for place, page in enumerate(sorted(pages)):
        own = [heading for heading in there if heading.page == page]
        gone = [heading for heading in absent if heading.page == page]
        document, bodies = _without(documents[page], own, gone, title)
        kept.append(document)
        questions += [
            Asked(heading.text, heading.kind, ((place, start, end),))
            for heading, (start, end) in zip(own, bodies, strict=True)
        ]
    questions.sort(key=lambda asked: (KINDS.index(asked.kind), _shuffled(asked.text)))
    questions += [Asked(heading.text, heading.kind, ()) for heading in absent]
    return Corpus(kept, questions + _details(kept, title))


def _each_once(documents: Sequence[Document]) -> list[Document]:
    """Pages without those that mostly repeat shorter ones: some manuals stand there once more as one long page."""
    seen: set[str] = set()
    repeats: set[int] = set()
    for page in sorted(range(len(documents)), key=lambda page: len(documents[page].text)):
        texts = [
            _of(documents[page], block) for block in documents[page].blocks if block.end > block.start + SHORTEST
        ]
        known = sum(len(text) for text in texts if text in seen)
        if texts and 2 * known > sum(map(len, texts)):
            repeats.add(page)
        seen.update(texts)
    return [document for page, document in enumerate(documents) if page not in repeats]


def _parts(document: Document) -> Iterable[Document]:
    """A page that is no longer than one may be, or such parts of it, each from a heading to another."""
    if len(document.text) <= MOST_PAGE:
        yield document
        return
    highest = min((block.level for block in document.blocks if block.kind == HEADING), default=0)
    builder, length, number = DocumentBuilder(), 0, 1
    for at, block in enumerate(document.blocks):
        begins = block.kind == HEADING and (block.level == highest or length > MOST_PAGE // 2)
        if length and begins and length + _until_next(document, at, block.level) > MOST_PAGE:
            yield builder.build(f"{document.id}, part {number}", document.title)
            builder, length, number = DocumentBuilder(), 0, number + 1
        if block.kind != PAGE:
            builder.add(block.kind, _of(document, block), block.level)
            length += block.end - block.start
    yield builder.build(f"{document.id}, part {number}", document.title)


def _until_next(document: Document, at: int, level: int) -> int:
    """Characters from a heading to the next of its level or a higher one."""
    start = document.blocks[at].start
    after = (b.start for b in document.blocks[at + 1 :] if b.kind == HEADING and b.level <= level)
    return next(after, len(document.text)) - start


def _candidates(documents: Sequence[Document]) -> list[_Heading]:
    """Headings that ask something and have text of their own; what occurs twice asks nothing."""
    found: list[_Heading] = []
    headings: Counter[str] = Counter()
    bodies: Counter[str] = Counter()
    texts: list[str] = []
    for page, document in enumerate(documents):
        for block, body in _own_texts(document):
            text = spoken(_of(document, document.blocks[block]))
            own = "".join(_of(document, document.blocks[at]) for at in body)
            if len(own) < SHORTEST:
                continue
            headings[text.lower()] += 1
            bodies[own] += 1
            kind = kind_of(text)
            if kind != OTHER and len(own) <= LONGEST and _tells(document, body):
                found.append(_Heading(page, block, body, text, kind))
                texts.append(own)
    return [h for h, own in zip(found, texts, strict=True) if headings[h.text.lower()] == 1 and bodies[own] == 1]


def _tells(document: Document, body: range) -> bool:
    """Whether there are sentences under a heading, and not a list of what follows."""
    told = [_of(document, block) for at in body if (block := document.blocks[at]).kind == PARAGRAPH]
    return sum(map(len, told)) >= SHORTEST and not any(text.lower().startswith("table of contents") for text in told)


def _own_texts(document: Document) -> Iterable[tuple[int, range]]:
    """Every heading with the blocks up to the next one."""
    places = [at for at, block in enumerate(document.blocks) if block.kind == HEADING]
    for block, after in itertools.pairwise([*places, len(document.blocks)]):
        yield block, range(block + 1, after)


def _pages(documents: Sequence[Document], candidates: Sequence[_Heading]) -> set[int]:
    """Pages of a corpus: some that ask, the others by chance."""
    asks = Counter(heading.page for heading in candidates if heading.kind != TOPIC)
    order = sorted(range(len(documents)), key=lambda page: _shuffled(documents[page].id + documents[page].text[:200]))
    first = sorted((page for page in order if asks[page]), key=lambda page: -asks[page] / len(documents[page].text))
    chosen: set[int] = set()
    length = 0
    for pages, most in ((first, MOST_TEXT * ASKING_SHARE), (order, MOST_TEXT)):
        for page in pages:
            size = len(documents[page].text)
            if page not in chosen and size <= 1.2 * MOST_PAGE and length + size <= most:
                chosen.add(page)
                length += size
    return chosen


def _without(
    document: Document, own: Sequence[_Heading], gone: Sequence[_Heading], title: str
) -> tuple[Document, list[tuple[int, int]]]:
    """A page without some headings and without some whole sections; where the text under the first ones stands now.

    What stood under a heading that is taken out goes on under the one around it, as it would had nobody written the
    heading.
    """
    hidden = {heading.block for heading in own}
    dropped = {at for heading in gone for at in (heading.block, *heading.body)}
    builder = DocumentBuilder()
    kept: list[int] = []
    for at, block in enumerate(document.blocks):
        if at in hidden or at in dropped:
            continue
        if block.kind == PAGE:
            builder.page(block.level)
        else:
            builder.add(block.kind, _of(document, block), block.level)
        kept.append(at)
    asked = {heading.text.lower() for heading in (*own, *gone)}
    tells = any(text in document.title.lower() for text in asked)
    name = title if tells else document.title
    built = builder.build(document.id, name, document.metadata)
    now = dict(zip(kept, built.blocks, strict=True))
    around = {section.start: section.parent for section in document.sections}
    titles: dict[int, str] = {}
    stands: list[Block] = []
    for at, block in enumerate(document.blocks):
        if at in now:
            stands.append(now[at])
        elif at in hidden:
            body = next(
                now[after] for after in range(at + 1, len(document.blocks)) if document.blocks[after].kind != PAGE
            )
            parent = around.get(block.start, -1)
            while parent >= 0 and spoken(document.sections[parent].heading).lower() in asked:
                parent = document.sections[parent].parent
            level = document.sections[parent].level if parent >= 0 else block.level
            stands.append(Block(HEADING, body.start, body.start, level))
            titles[body.start] = document.sections[parent].heading if parent >= 0 else name
    # A heading that was taken out stands before the block under it, whose place it has.
    sections = sections_of(built.text, [block for block in stands if block.kind in (HEADING, PAGE)], titles)
    bodies = []
    for heading in own:
        blocks = [now[at] for at in heading.body if document.blocks[at].kind != PAGE]
        bodies.append((blocks[0].start, blocks[-1].end))
    return replace(built, sections=sections), bodies


def _details(documents: Sequence[Document], seed: str) -> list[Asked]:
    """Questions about a row or a sentence, each labelled wherever it is said."""
    places: list[tuple[int, int]] = []
    texts: list[str] = []
    for number, document in enumerate(documents):
        for block in document.blocks:
            if block.kind not in (HEADING, CODE, PAGE) and block.end - block.start >= SHORTEST // 2:
                places.append((number, block.start))
                texts.append(_of(document, block))
    found = []
    for text, held, rows in details(texts, seed, MOST_DETAILS):
        spans = []
        for row in rows:
            number, start = places[row]
            at = start + texts[row].index(held)
            spans.append((number, at, at + len(held)))
        found.append(Asked(text, DETAIL, tuple(spans)))
    return found


def _of(document: Document, block: Block) -> str:
    return document.text[block.start : block.end]


def _shuffled(text: str) -> str:
    """A place in an order that is the same in every run."""
    return hashlib.blake2b(text.encode(), digest_size=8).hexdigest()
