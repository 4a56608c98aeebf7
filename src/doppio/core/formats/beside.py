"""Pictures that stand in files beside the page that shows them: put behind its text, so that one file carries all.

A page is given alone to whatever reads it, keeps it and draws its pictures later. Behind its text stand comments of
HTML and of Markdown, one a picture: the address as the page writes it, and the picture.
"""

import base64
import html as markup
import posixpath
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import quote, unquote

from doppio.core.errors import DocumentError
from doppio.core.formats.picture_file import ENDINGS
from doppio.core.text.canonical import decode

HTML, MARKDOWN = (".html", ".htm"), (".md", ".markdown")
PAGES = HTML + MARKDOWN
# All pictures of a page together, in bytes of their files.
ROOM = 64 << 20
MOST_NAMED = 3
PICTURES = (".png", ".jpg", ".jpeg", ".webp", ".svg", ".gif", ".bmp", ".tif", ".tiff")
# Where scripts that load pictures late look for their addresses.
LATE = ("data-src", "data-original", "data-lazy-src")
_TAG = re.compile(r"<img\b", re.IGNORECASE)
_ATTRIBUTE = re.compile(r"""[\s/]*([^\s"'<>/=]+)(?:\s*=\s*(?:"([^"]*)"|'([^']*)'|([^\s"'>]+)))?""")
_FENCED = re.compile(r"^ {0,3}(```+|~~~+).*?(?:^ {0,3}\1|\Z)", re.MULTILINE | re.DOTALL)
_INLINE = re.compile(
    r"!\[(?:[^\[\]\\]|\\.|\[[^\[\]]*\])*\]\(\s*(?:<([^<>\n]*)>|([^\s()<>]+(?:\([^\s()<>]*\)[^\s()<>]*)*))"
)
_DEFINED = re.compile(r"^ {0,3}\[[^\]\n]+\]:[ \t]*(?:<([^<>\n]*)>|(\S+))", re.MULTILINE)
_LEADS_OUT = re.compile(r"[a-z][a-z0-9+.-]*:|//|#", re.IGNORECASE)
_BEHIND = re.compile(r"\s*<!-- picture (\S+) ([A-Za-z0-9+/=]*) -->\s*\Z")


@dataclass(frozen=True)
class Joined:
    """A page with the pictures that it shows.

    data : the page's bytes; those that were given where nothing was found for it
    shown : names of the files that are in it now
    missing : addresses in other files that are not there
    too_many : names of files that there was no room for
    """

    data: bytes
    shown: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    too_many: tuple[str, ...] = ()

    @property
    def told(self) -> str:
        """What is not shown, in words; empty where all is."""
        parts = []
        if self.missing:
            parts.append(f"{_named(self.missing)} not among the pictures of these files")
        if self.too_many:
            parts.append(f"{_named(self.too_many)} beyond the {ROOM >> 20} MiB of pictures that a page may show")
        return "; ".join(parts)


def _named(names: tuple[str, ...]) -> str:
    more = len(names) - MOST_NAMED
    said = ", ".join(names[:MOST_NAMED]) + (f" and {more} more" if more > 0 else "")
    return f"it shows {said}, which {'is' if len(names) == 1 else 'are'}"


def is_page(name: str) -> bool:
    """Whether a file may show pictures that stand in other files."""
    return name.lower().endswith(PAGES)


class Beside:
    """Picture files that came together with pages, of all `names`; `read` gives the bytes of one."""

    def __init__(self, names: Iterable[str], read: Callable[[str], bytes]) -> None:
        self._names = frozenset(name for name in names if name.lower().endswith(ENDINGS))
        self._read = read

    def join(self, data: bytes, name: str) -> Joined:
        """A page with those of the pictures that it shows, in the order in which it shows them."""
        try:
            text = decode(data, name)
        except DocumentError:
            # Whoever reads it will say so.
            return Joined(data)
        behind, shown, missing, too_many = list[str](), list[str](), list[str](), list[str]()
        size = 0
        for address in addresses(text, name):
            found = self._found(address, name)
            if found is None:
                missing.append(address)
                continue
            picture = self._read(found)
            if size + len(picture) > ROOM:
                too_many.append(found)
                continue
            size += len(picture)
            behind.append(f"\n<!-- picture {quote(address, safe='/')} {base64.b64encode(picture).decode()} -->")
            shown.append(found)
        whole = "".join([text, *behind]).encode("utf-8", "surrogatepass") if behind else data
        return Joined(whole, tuple(dict.fromkeys(shown)), tuple(missing), tuple(dict.fromkeys(too_many)))

    def _found(self, address: str, page: str) -> str | None:
        """The file that an address leads to, seen from a page: of one that begins at the top of its site the nearest
        folder that has it, and else, where files came without folders, the one of that name."""
        path = _path(address)
        folder = posixpath.dirname(page)
        while True:
            found = posixpath.normpath(posixpath.join(folder, path.lstrip("/")))
            if found in self._names:
                return found
            if not folder or not path.startswith("/"):
                break
            folder = posixpath.dirname(folder)
        alone = posixpath.basename(path)
        return alone if alone in self._names and "/" not in page else None


def pages_of(names: Sequence[str], read: Callable[[str], bytes]) -> tuple[dict[str, bytes], set[str]]:
    """Those of some files that are pages, with the pictures that they show, and the names of these pictures."""
    beside = Beside(names, read)
    joined = {name: beside.join(read(name), name) for name in names if is_page(name)}
    return {name: one.data for name, one in joined.items()}, {shown for one in joined.values() for shown in one.shown}


def addresses(text: str, name: str) -> list[str]:
    """Where a page looks for pictures in other files, as it writes them, unescaped, each once.

    Notes
    -----
    What merely looks like an address, such as one in a listing of code, is among them; a reader will not ask for it.
    """
    found = _of_tags(text) if name.lower().endswith(HTML) else _of_marks(text)
    clean = (plain(address) for address in found)
    return [one for one in dict.fromkeys(clean) if one and not _LEADS_OUT.match(one)]


def address_of(said: Mapping[str, str]) -> str:
    """Where a picture of HTML stands, by the attributes of its tag: those that are loaded late have a stand-in, if
    anything, as their `src`."""
    source = said.get("src", "").strip()
    if source and not source.lower().startswith("data:"):
        return source
    sizes = said.get("srcset", "").split()
    return next((said[name].strip() for name in LATE if said.get(name, "").strip()), sizes[0] if sizes else source)


def _path(address: str) -> str:
    """An address without what is asked of the file, and which part of it is meant."""
    return re.split(r"[?#]", address, maxsplit=1)[0]


def plain(address: str) -> str:
    """An address as it is looked for: without the escapes of URLs and of HTML."""
    return unquote(markup.unescape(address)).strip()


def _of_tags(text: str) -> Iterable[str]:
    for tag in _TAG.finditer(text):
        at = tag.end()
        said: dict[str, str] = {}
        while (attribute := _ATTRIBUTE.match(text, at)) is not None:
            said.setdefault(attribute[1].lower(), attribute[2] or attribute[3] or attribute[4] or "")
            at = attribute.end()
        yield address_of(said)


def _of_marks(text: str) -> Iterable[str]:
    text = _FENCED.sub("\n", text)
    for mark in _INLINE.finditer(text):
        yield mark[1] or mark[2] or ""
    for mark in _DEFINED.finditer(text):
        # Most of these are links to other pages.
        address = mark[1] or mark[2]
        if _path(address).lower().endswith(PICTURES):
            yield address


def apart(text: str) -> tuple[str, dict[str, bytes]]:
    """The text of a page that was joined, and the pictures behind it by their addresses."""
    pictures: dict[str, bytes] = {}
    end = len(text)
    while (begin := text.rfind("\n<!-- picture ", 0, end)) >= 0:
        found = _BEHIND.fullmatch(text, begin, end)
        try:
            if found is None:
                break
            pictures[unquote(found[1])] = base64.b64decode(found[2], validate=True)
        except ValueError:
            break
        end = begin
    return text[:end], pictures
