"""What is wrong with a way of cutting: lengths, tokens that no encoder reads, cut sentences, cut answers."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.text.document import Document
from doppio.core.text.sentences import sentences_of
from doppio.core.text.units import Offsets, Units

INTACT, CUT, SPREAD, OUTSIDE = "intact", "cut", "spread", "outside"
SHORT_TOKENS = 24
COVER = 0.5


@dataclass(frozen=True)
class Looks:
    """The chunks of one document, looked at; all arrays have one entry a chunk.

    past : offset of the first token that the encoder does not read, or -1
    unread : how many tokens it does not read
    begins_inside, ends_inside : whether the chunk begins or ends inside of a sentence
    """

    past: Offsets
    unread: Offsets
    begins_inside: NDArray[np.bool_]
    ends_inside: NDArray[np.bool_]


def look(document: Document, starts: Offsets, ends: Offsets, context: Offsets, tokens: Units, limit: int) -> Looks:
    """Look at the chunks of a document.

    Parameters
    ----------
    starts, ends : (n,) int64
    context : (n,) int64, tokens of the line before each chunk
    tokens : Units
        The encoder's tokens of the whole text.
    limit : int
        How many tokens the encoder reads.
    """
    first = np.searchsorted(tokens.starts, starts)
    last = np.searchsorted(tokens.starts, ends)
    room = np.maximum(limit - context, 0)
    unread = np.maximum(last - first - room, 0)
    at = np.minimum(first + room, max(len(tokens.starts) - 1, 0))
    past = np.where(unread > 0, tokens.starts[at] if len(tokens.starts) else -1, -1)
    sentence_starts, sentence_ends = sentences_of(document)
    return Looks(past, unread, ~np.isin(starts, sentence_starts), ~np.isin(ends, sentence_ends))


@dataclass(frozen=True)
class SpanState:
    """How an answer span stands in a chunking.

    state : "intact" (one chunk holds all of it), "cut" (one holds at least half), "spread" (none does) or "outside"
    pieces : how many chunks touch it
    best : the largest share of it that one chunk holds
    """

    state: str
    pieces: int
    best: float


def span_state(starts: Offsets, ends: Offsets, start: int, end: int) -> SpanState:
    """How the span `[start, end)` stands among the chunks of its document, or among their hosts.

    Hosts come once a chunk; each is counted once.
    """
    starts, ends = np.unique(np.stack([starts, ends]), axis=1) if len(starts) else (starts, ends)
    shared = np.minimum(ends, end) - np.maximum(starts, start)
    pieces = int((shared > 0).sum())
    best = max(int(shared.max(initial=0)), 0) / max(end - start, 1)
    state = INTACT if best >= 1 else CUT if best >= COVER else SPREAD if pieces else OUTSIDE
    return SpanState(state, pieces, best)


@dataclass
class Figures:
    """A way of cutting in numbers; lengths are encoder tokens with the context line."""

    chunks: int = 0
    median: float = 0.0
    p95: float = 0.0
    longest: int = 0
    overlap: float = 0.0
    too_long: int = 0
    unread: int = 0
    too_short: int = 0
    inside: int = 0
    spans: dict[str, int] = field(default_factory=lambda: {INTACT: 0, CUT: 0, SPREAD: 0, OUTSIDE: 0})


def figures(table: ChunkTable, looks: Sequence[Looks], states: Sequence[SpanState], short: int) -> Figures:
    """Sum up the chunks of a corpus.

    Parameters
    ----------
    table : ChunkTable
    looks : one for every document, in the order of the table
    states : of all answer spans
    short : int
        Chunks of fewer tokens are too short to say much on their own.

    Notes
    -----
    `overlap` is the share of the stored text that is stored a second time; `inside` counts the chunks that begin or
    end inside of a sentence.
    """
    found = Figures(chunks=len(table))
    lengths = table.indexed_tokens
    if len(lengths):
        found.median, found.p95 = float(np.median(lengths)), float(np.percentile(lengths, 95))
        found.longest = int(lengths.max())
        stored = int((table.end - table.start).sum())
        same = table.document[1:] == table.document[:-1]
        twice = int(np.where(same, np.maximum(table.end[:-1] - table.start[1:], 0), 0).sum())
        found.overlap = twice / stored
        found.too_short = int((table.tokens < short).sum())
    for one in looks:
        found.too_long += int((one.unread > 0).sum())
        found.unread += int(one.unread.sum())
        found.inside += int((one.begins_inside | one.ends_inside).sum())
    for state in states:
        found.spans[state.state] += 1
    return found
