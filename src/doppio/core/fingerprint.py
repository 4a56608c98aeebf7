"""Which inputs and settings an artifact was made from: a short digest of both."""

import hashlib
import json
from typing import Any


def fingerprint(*parts: Any) -> str:
    """Digest JSON values to 20 hexadecimal characters; key order does not matter."""
    text = json.dumps(parts, sort_keys=True, ensure_ascii=False, separators=(",", ":"))
    return hashlib.blake2b(text.encode(), digest_size=10).hexdigest()


def text_digest(text: str) -> str:
    """Digest one text to 32 hexadecimal characters."""
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def bytes_digest(data: bytes, *parts: Any) -> str:
    """Digest bytes, and JSON values with them, to 20 hexadecimal characters."""
    told = json.dumps(parts, separators=(",", ":")).encode()
    return hashlib.blake2b(data, digest_size=10, key=hashlib.blake2b(told, digest_size=32).digest()).hexdigest()
