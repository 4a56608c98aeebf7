"""What is the text of a document? One form that never changes after import."""

import unicodedata

import regex

from doppio.core.errors import DocumentError

CONTROL = regex.compile(r"[\p{Cc}--[\n\t]]|\N{ZERO WIDTH NO-BREAK SPACE}", regex.V1)
# Halves of pairs that stand alone are in no encoding, and so in no database; what is shown for them is as long.
HALVES = regex.compile(r"\p{Cs}")
REPLACED = "\N{REPLACEMENT CHARACTER}"
LINE_ENDS = regex.compile(r"\r\n?|\u2028|\u2029|\x85|\f|\v")


def canonical(text: str) -> str:
    """Bring a text to NFC with `\\n` line ends and without control characters or byte order marks."""
    if text.isascii() and text.isprintable():
        # One line of plain signs, as most questions and quotes are: nothing in it changes.
        return text
    text = HALVES.sub(REPLACED, text)
    return unicodedata.normalize("NFC", CONTROL.sub("", LINE_ENDS.sub("\n", text)))


def decode(data: bytes, name: str) -> str:
    """Decode the bytes of a file: UTF-8, or UTF-16 and UTF-32 where a byte order mark says so.

    Raises
    ------
    DocumentError
        If the bytes are in another encoding; names the file, the line and the byte.
    """
    encoding = "utf-8-sig"
    if data.startswith((b"\xff\xfe\x00\x00", b"\x00\x00\xfe\xff")):
        encoding = "utf-32"
    elif data.startswith((b"\xff\xfe", b"\xfe\xff")):
        encoding = "utf-16"
    try:
        return data.decode(encoding)
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise DocumentError(
            f"{name}, line {line}: byte 0x{data[error.start]:02x} is not {encoding.upper().removesuffix('-SIG')}; "
            "save the file as UTF-8 and import it again"
        ) from error
