// The ends of an answer can be dragged: the selection follows, and where it is let go the answer stands.
import { useEffect, useRef, type MouseEvent, type ReactNode } from "react";
import { selectedWords, type Selected } from "./selection";

/** So near an end, in pixels, it is taken hold of. */
const REACH = 9;
type Edge = "start" | "end";

export function DragEnds({
  textOf,
  moved,
  children,
}: {
  textOf: (document: number) => string[] | undefined;
  /** Told the words between the ends once one was dragged. */
  moved: (words: Selected) => void;
  children: ReactNode;
}) {
  const frame = useRef<HTMLDivElement>(null);
  // Marks are drawn anew whenever anything is read anew.
  useEffect(() => {
    const marks = marksIn(frame.current);
    marks.forEach((mark) => mark.removeAttribute("data-edge"));
    const first = marks[0];
    const last = marks[marks.length - 1];
    if (first) first.dataset.edge = "start";
    if (last) last.dataset.edge = last === first ? "start end" : "end";
  });

  function begin(event: MouseEvent) {
    const marks = marksIn(frame.current);
    const edge = edgeAt(marks, event.clientX, event.clientY);
    const selection = window.getSelection();
    if (!edge || !selection) return;
    event.preventDefault();
    const first = marks[0]!.firstChild!;
    const last = marks[marks.length - 1]!.firstChild!;
    const [fixed, at] = edge === "start" ? [last, last.textContent!.length] : [first, 0];
    const follow = (move: globalThis.MouseEvent) => {
      const point = window.document.caretPositionFromPoint
        ? window.document.caretPositionFromPoint(move.clientX, move.clientY)
        : null;
      if (point && frame.current?.contains(point.offsetNode))
        selection.setBaseAndExtent(fixed, at, point.offsetNode, point.offset);
    };
    const end = () => {
      window.removeEventListener("mousemove", follow);
      window.removeEventListener("mouseup", end);
      const words = selectedWords(textOf);
      selection.removeAllRanges();
      if (words) moved(words);
    };
    window.addEventListener("mousemove", follow);
    window.addEventListener("mouseup", end);
  }

  return (
    <div ref={frame} className="drag-ends" onMouseDown={begin}>
      {children}
    </div>
  );
}

const marksIn = (frame: HTMLElement | null) => [
  ...(frame?.querySelectorAll<HTMLElement>(".reader mark.pinned") ?? []),
];

function edgeAt(marks: HTMLElement[], x: number, y: number): Edge | null {
  const first = marks[0]?.getClientRects()[0];
  const lines = marks[marks.length - 1]?.getClientRects();
  const last = lines?.[lines.length - 1];
  const near = (box: DOMRect, at: number) => Math.abs(x - at) <= REACH && y >= box.top && y <= box.bottom;
  if (last && near(last, last.right)) return "end";
  return first && near(first, first.left) ? "start" : null;
}
