"""A value in a message: short, as it stands in JSON."""

import json
from typing import Any


def shown(value: Any) -> str:
    """A JSON value in at most 60 signs."""
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 60 else text[:57] + "..."
