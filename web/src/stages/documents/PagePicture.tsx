// A page as it is seen, with the answers on it; a part of it can be asked by, or labelled as an answer.
import { useContext, useMemo, useState } from "react";
import { Button } from "react-bootstrap";
import type { DocumentText } from "../../api/client";
import { PinnedContext } from "../../labels/Judged";
import { useLabelMode } from "../../labels/mode";
import { useWorkspace } from "../../shell/workspace";
import { codePoints } from "../../text/codepoints";
import { CutOut } from "../../text/CutOut";
import { boxesOf, rangeOf, type Box } from "../../text/regions";
import { usePageLines } from "./api";
import type { MarkedRange } from "./Reader";

export function PagePicture({
  document,
  page,
  marks,
}: {
  document: DocumentText;
  page: number;
  /** What is marked in the text. */
  marks: MarkedRange[];
}) {
  const workspace = useWorkspace();
  const [turned, setTurned] = useState<{ from: number; to: number } | null>(null);
  const shown = turned && turned.from === page ? turned.to : page;
  const turn = (by: number) =>
    setTurned({ from: page, to: Math.min(Math.max(shown + by, 1), document.pages) });
  const lines = usePageLines(document, shown).data;
  return (
    <div className="page-picture">
      <div className="d-flex align-items-center small-text gap-2 mb-1">
        <Button size="sm" variant="outline-primary" disabled={shown <= 1} onClick={() => turn(-1)}>
          Before
        </Button>
        <span className="num">
          page {shown} of {document.pages}
        </span>
        <Button
          size="sm"
          variant="outline-primary"
          disabled={shown >= document.pages}
          onClick={() => turn(1)}
        >
          Next
        </Button>
      </div>
      <CutOut
        key={shown}
        beside={(part) => <Answers document={document} page={shown} part={part} />}
        over={lines && <Marks boxes={boxesOf(marks, lines)} />}
      >
        <img
          src={`/api/workspaces/${workspace}/documents/${document.id}/pages/${shown}`}
          alt={`Page ${shown} of ${document.title}`}
        />
      </CutOut>
    </div>
  );
}

/** Answers where they stand on the page. */
function Marks({ boxes }: { boxes: Box[] }) {
  return (
    <svg className="page-marks" viewBox="0 0 1 1" preserveAspectRatio="none" aria-hidden>
      {boxes.map(([left, top, right, bottom], row) => (
        <rect key={row} x={left} y={top} width={right - left} height={bottom - top} />
      ))}
    </svg>
  );
}

/** While labels are given: that the marked part of the page answers the pinned question. */
function Answers({ document, page, part }: { document: DocumentText; page: number; part: Box | null }) {
  const mode = useLabelMode();
  const asked = useContext(PinnedContext);
  const lines = usePageLines(document, page).data;
  const points = useMemo(() => codePoints(document.text), [document.text]);
  if (!mode.on || !asked?.question || !part || !lines) return null;
  const range = rangeOf(part, lines, points);
  if (!range) return <span className="nothing-here">no words and no picture here</span>;
  return (
    <Button
      size="sm"
      variant="success"
      disabled={mode.busy}
      title={points.slice(range.start, range.end).join("").slice(0, 300)}
      onClick={() => mode.judge(asked, { document: document.id, ...range }, 2)}
    >
      This part answers
    </Button>
  );
}
