"""Logs: one JSON object a line, and no secret in any of them."""

import json
import logging
import re
from typing import Any

SECRETS = re.compile(r"(/enter/)[^\s/?\"']+")
HIDDEN = r"\1[secret]"


class JsonLines(logging.Formatter):
    """Time, level, logger and message of a record, what it says more of itself, who asked for what, and the
    traceback, where these are known."""

    def format(self, record: logging.LogRecord) -> str:
        found: dict[str, Any] = {
            "time": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"),
            "level": record.levelname.lower(),
            "from": record.name,
            "message": record.getMessage(),
        }
        found |= getattr(record, "about", {})
        request = getattr(record, "request", None)
        if request is not None and hasattr(request, "method"):
            found["request"] = f"{request.method} {request.path}"
            user = getattr(request, "user", None)
            found["user"] = getattr(user, "pk", None)
        if record.exc_info:
            found["traceback"] = self.formatException(record.exc_info)
        return SECRETS.sub(HIDDEN, json.dumps(found, ensure_ascii=False, default=str))
