"""Which line is the caption of a table or a picture?"""

import regex

CAPTION_LINE = regex.compile(
    r"^(?:Table|Figure|Fig\.|Picture|Diagram|Photo|Listing|Tabelle|Abbildung|Abb\.)\s+[\dA-Z][\d.\-]*\s*[.:–—-]\s*\S",
    regex.IGNORECASE,
)
