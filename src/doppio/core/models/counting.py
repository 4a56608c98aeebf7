"""How many tokens texts have, from how many each of their words has.

A tokenizer that cuts a text at white space before anything else gives it as many tokens as its words have. Words come
back all the time, so each is cut into tokens once: a context is counted in a tenth of a millisecond.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from tokenizers import Tokenizer, normalizers, pre_tokenizers

# Words whose tokens are known, after which counting begins anew, and letters of the longest of them.
MOST_WORDS, LONGEST = 200_000, 64
# White space for Python, and for some tokenizers a sign to be left out, which joins what stands around it.
_CONTROLS = "\x0b\x0c\x1c\x1d\x1e\x1f\x85"
_CUT_AT_SPACE = (
    pre_tokenizers.BertPreTokenizer,
    pre_tokenizers.Whitespace,
    pre_tokenizers.WhitespaceSplit,
)
# What changes letters, and neither adds white space at the ends of a word nor looks beyond it.
_WITHIN_WORDS = (
    normalizers.BertNormalizer,
    normalizers.Lowercase,
    normalizers.StripAccents,
    normalizers.NFC,
    normalizers.NFD,
    normalizers.NFKC,
    normalizers.NFKD,
)


class TokenCounts:
    """Tokens of whole texts by a tokenizer, special ones left out; `tokenizer` cuts nothing off."""

    def __init__(self, tokenizer: Tokenizer) -> None:
        self._tokenizer = tokenizer
        self._by_words = keeps_to_words(tokenizer)
        self._known: dict[str, int] = {}

    def of(self, texts: Sequence[str]) -> NDArray[np.int64]:
        """How many each has: (n,) int64."""
        if not self._by_words:
            return np.array(self._counted(list(texts)), np.int64)
        return np.array([self._of_words(_words(text)) for text in texts], np.int64)

    def _of_words(self, words: Sequence[str]) -> int:
        known = self._known
        try:
            return sum(map(known.__getitem__, words))
        except KeyError:
            lacking = [word for word in dict.fromkeys(words) if word not in known]
            new = dict(zip(lacking, self._counted(lacking), strict=True))
            if len(known) + len(new) > MOST_WORDS:
                self._known = {}
            self._known.update((word, count) for word, count in new.items() if len(word) <= LONGEST)
            return sum(new[word] if word in new else known[word] for word in words)

    def _counted(self, texts: list[str]) -> list[int]:
        return [len(one.ids) for one in self._tokenizer.encode_batch_fast(texts, add_special_tokens=False)]


def _words(text: str) -> list[str]:
    return text.split() if not any(sign in text for sign in _CONTROLS) else text.split(" ")


def keeps_to_words(tokenizer: Tokenizer) -> bool:
    """Whether no token of it reaches over white space, and what stands beside a word changes none of its tokens."""
    spaced = any(_words(token.content) != [token.content] for token in tokenizer.get_added_tokens_decoder().values())
    within = tokenizer.normalizer is None or isinstance(tokenizer.normalizer, _WITHIN_WORDS)
    return isinstance(tokenizer.pre_tokenizer, _CUT_AT_SPACE) and within and not spaced
