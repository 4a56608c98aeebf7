"""Cutting before anything is built: chunks of one document or of all, with the encoder's tokens kept at hand."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.kind import RULES, filled
from doppio.core.chunking.table import ChunkTable, cut_one, table_of
from doppio.core.errors import RecipeError
from doppio.core.fingerprint import text_digest
from doppio.core.last_used import LastUsed
from doppio.core.models.encoder import Encoder
from doppio.core.text.document import HEADING, PARAGRAPH, Document, DocumentBuilder
from doppio.core.text.units import Units
from doppio.recipes.builds import models

KEPT_TOKENS = 10_000_000
VECTORS_OVER = 20


class TokenShelf:
    """The encoder's tokens of texts that were cut lately: a moved setting does not count them again."""

    def __init__(self, room: int = KEPT_TOKENS) -> None:
        self._kept: LastUsed[tuple[str, str], Units] = LastUsed(room, lambda units: len(units.starts))

    def of(self, encoder: Encoder, texts: Sequence[str]) -> list[Units]:
        """Tokens of each text."""
        keys = [(encoder.digest, text_digest(text)) for text in texts]
        found = self._kept.of(keys)
        missing = {key: text for key, text in zip(keys, texts, strict=True) if key not in found}
        fresh = dict(zip(missing, encoder.token_offsets(list(missing.values())), strict=True))
        self._kept.keep(fresh)
        found |= fresh
        return [found[key] for key in keys]


shelf = TokenShelf()


def cut_document(document: Document, chunking: Mapping[str, Any]) -> tuple[dict[str, NDArray[np.int64]], Units]:
    """Columns of the chunks of one document, and the encoder's tokens of its text."""
    encoder = models.local()
    tokens = shelf.of(encoder, [document.text])[0]
    return cut_one(document, chunking, tokens, encoder, encoder), tokens


def cut_all(documents: Sequence[Document], chunking: Mapping[str, Any]) -> tuple[ChunkTable, list[Units]]:
    """Chunks of all documents, and the tokens of each.

    Raises
    ------
    RecipeError
        If the rule needs a vector of every sentence of many documents: that takes a build.
    """
    if RULES.get(chunking["rule"]).reads_vectors(filled(chunking)) and len(documents) > VECTORS_OVER:
        raise RecipeError(
            "chunking.signal: vectors of all sentences take long over all documents; look at single documents, or "
            "compare terms"
        )
    encoder = models.local()
    counted = shelf.of(encoder, [document.text for document in documents])
    parts = []
    for position, (document, tokens) in enumerate(zip(documents, counted, strict=True)):
        part = cut_one(document, chunking, tokens, encoder, encoder)
        parts.append({**part, "document": np.full(len(part["start"]), position, np.int64)})
    return table_of(parts), counted


def warm_up_rules() -> None:
    """Load what is compiled for cutting, so that the first moved setting is as quick as the next."""
    builder = DocumentBuilder()
    for line in range(12):
        builder.add(HEADING if line % 4 == 0 else PARAGRAPH, f"Line {line} of a text. It goes on; then it ends.", 2)
    for rule in RULES.kinds:
        cut_document(builder.build("warm up"), filled({"rule": rule, "unit": "words", "size": 16, "overlap": 2}))
