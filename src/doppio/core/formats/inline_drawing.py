"""Pictures that HTML carries in its text: drawings of lines between the words, and long addresses of bytes.

They are taken out before the page is read, which is done by a parser that knows no case of letters, and gives up at
addresses of 10 MB; a short mark stands for each.
"""

import html as markup
import re
from collections.abc import Iterator

from doppio.core.formats.drawing import carried

# Smaller ones are icons of buttons.
LEAST_SIDE = 64.0
LONG = 1 << 16
_LONG = re.compile(rf"""(["'])(data:image/[a-z+.-]+;base64,[^"'<>]{{{LONG},}})\1""", re.IGNORECASE)
_TAGS = re.compile(r"<(/?)(svg|figure)\b[^>]*>", re.IGNORECASE)
_SIDE = re.compile(r"""\s(width|height)\s*=\s*["']?\s*(\d+(?:\.\d+)?)(?:px)?\s*["'\s>/]""", re.IGNORECASE)
_LABEL = re.compile(r"""\saria-label\s*=\s*(?:"([^"]*)"|'([^']*)')""", re.IGNORECASE)
_SAID = re.compile(r"<(title|desc)\b[^>]*>(.*?)</\1\s*>", re.IGNORECASE | re.DOTALL)
_ENTITY = re.compile(r"&(?!(?:amp|lt|gt|quot|apos);)(\w+);")
SVG, XLINK = "http://www.w3.org/2000/svg", "http://www.w3.org/1999/xlink"


def taken_out(text: str) -> tuple[str, dict[str, bytes]]:
    """A page with a mark for each picture that it carries in its text, and the pictures by their marks."""
    pictures: dict[str, bytes] = {}

    def mark(data: bytes) -> str:
        pictures[f"picture-in-text:{len(pictures) + 1}"] = data
        return f"picture-in-text:{len(pictures)}"

    def long(found: re.Match[str]) -> str:
        data = carried(found[2])
        return found[0] if data is None else f'"{mark(data)}"'

    text = _LONG.sub(long, text)
    parts, at = list[str](), 0
    for begin, end, in_figure in _drawings(text):
        drawing = text[begin:end]
        if _is_shown(drawing, in_figure):
            said = markup.escape(_said(drawing), quote=True)
            parts += [text[at:begin], f'<img src="{mark(_alone(drawing))}" alt="{said}">']
            at = end
    return "".join([*parts, text[at:]]), pictures


def _drawings(text: str) -> Iterator[tuple[int, int, bool]]:
    """Where drawings begin and end, one inside of another being part of it, and whether they are in a figure."""
    depth, begin, in_figure = 0, 0, False
    for tag in _TAGS.finditer(text):
        ends = bool(tag[1])
        if tag[2].lower() == "figure":
            in_figure = not ends
        elif ends and depth:
            depth -= 1
            if not depth:
                yield begin, tag.end(), in_figure
        elif not ends and not tag[0].endswith("/>"):
            begin = begin if depth else tag.start()
            depth += 1


def _is_shown(drawing: str, in_figure: bool) -> bool:
    """Whether a drawing is one to look at, and no icon: it has words, says that it is large, or is a figure."""
    head = drawing[: drawing.index(">") + 1]
    if re.search(r"""aria-hidden\s*=\s*["']?true|display\s*:\s*none""", head, re.IGNORECASE):
        return False
    sides = {side.lower(): float(size) for side, size in _SIDE.findall(head)}
    if sides and min(sides.values()) < LEAST_SIDE:
        return False
    return len(sides) == 2 or in_figure or re.search(r"<text\b", drawing, re.IGNORECASE) is not None


def _said(drawing: str) -> str:
    label = _LABEL.search(drawing[: drawing.index(">") + 1])
    parts = [(label[1] or label[2] or "") if label else ""]
    parts += [re.sub(r"<[^>]*>", " ", said) for _, said in _SAID.findall(drawing)[:2]]
    return " ".join(dict.fromkeys(" ".join(markup.unescape(part).split()) for part in parts if part.strip()))


def _alone(drawing: str) -> bytes:
    """A drawing as a file of its own: with the names of its elements' language, and without HTML's entities."""
    begin, tag = len("<svg"), drawing[: drawing.index(">") + 1]
    names = "" if "xmlns=" in tag else f' xmlns="{SVG}"'
    if "xlink:" in drawing and "xmlns:xlink=" not in tag:
        names += f' xmlns:xlink="{XLINK}"'
    whole = f"{drawing[:begin].lower()}{names}{drawing[begin:]}"
    return _ENTITY.sub(lambda found: markup.unescape(found[0]), whole).encode()
