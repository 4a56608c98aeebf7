// Words that a person selected, as a range of a document: offsets count code points.
export interface Selected {
  document: number;
  start: number;
  end: number;
  text: string;
}

/** Code points from the beginning of a block that says where it begins (`data-at`) to a point inside it. */
function offsetOf(node: Node, offset: number): { document: number; at: number } | null {
  const inside = node instanceof Element ? node : node.parentElement;
  const block = inside?.closest<HTMLElement>("[data-at]");
  const owner = inside?.closest<HTMLElement>("[data-document]");
  if (!block || !owner) return null;
  const before = window.document.createRange();
  before.setStart(block, 0);
  before.setEnd(node, offset);
  const length = Array.from(before.toString()).length;
  return { document: Number(owner.dataset.document), at: Number(block.dataset.at) + length };
}

/** The range without white space at its ends; null where nothing else is in it. */
export function trimmed(start: number, text: string): { start: number; end: number; text: string } | null {
  const points = Array.from(text);
  let low = 0;
  let high = points.length;
  while (low < high && !points[low]!.trim()) low++;
  while (high > low && !points[high - 1]!.trim()) high--;
  return low < high
    ? { start: start + low, end: start + high, text: points.slice(low, high).join("") }
    : null;
}

/** What is selected now, if it lies in one document. */
export function selectedWords(textOf: (document: number) => string[] | undefined): Selected | null {
  const selection = window.getSelection();
  if (!selection || selection.isCollapsed || !selection.rangeCount) return null;
  const range = selection.getRangeAt(0);
  const from = offsetOf(range.startContainer, range.startOffset);
  const to = offsetOf(range.endContainer, range.endOffset);
  if (!from || !to || from.document !== to.document || from.at >= to.at) return null;
  // Between blocks the page shows no line ends: the document's own text says what lies there.
  const points = textOf(from.document);
  const text = points ? points.slice(from.at, to.at).join("") : selection.toString();
  const found = trimmed(from.at, text);
  return found && { document: from.document, ...found };
}
