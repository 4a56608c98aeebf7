// A picture of a document, as large as there is room for; without one that can be drawn, what is said in its place.
import { useContext, useState } from "react";
import { Button } from "react-bootstrap";
import type { Schemas } from "../api/client";
import { PinnedContext } from "../labels/Judged";
import { useLabelMode } from "../labels/mode";
import { useWorkspace } from "../shell/workspace";
import { CutOut } from "./CutOut";

export type FigureData = Schemas["FigureInText"];

export function Figure({
  document,
  figure,
  small = false,
}: {
  document: number;
  figure: FigureData;
  /** Beside a passage it is a thumbnail. */
  small?: boolean;
}) {
  const workspace = useWorkspace();
  const [broken, setBroken] = useState(false);
  const said = figure.alt || figure.caption || `Picture ${figure.number}`;
  if (broken) return <span className="small-text soft">{said}: this picture cannot be drawn.</span>;
  const shown = (
    <img
      className={small ? "figure-thumb" : "figure-whole"}
      src={`/api/workspaces/${workspace}/documents/${document}/figures/${figure.number}`}
      width={figure.width}
      height={figure.height}
      alt={said}
      title={[said, figure.page ? `page ${figure.page}` : ""].filter(Boolean).join(", ")}
      loading="lazy"
      onError={() => setBroken(true)}
    />
  );
  return small ? (
    shown
  ) : (
    <CutOut beside={() => <Answers document={document} figure={figure} />}>{shown}</CutOut>
  );
}

/** While labels are given: that the picture answers the pinned question, which is kept with what stands for it. */
function Answers({ document, figure }: { document: number; figure: FigureData }) {
  const mode = useLabelMode();
  const asked = useContext(PinnedContext);
  const [start, end] = figure.anchor;
  if (!mode.on || !asked?.question || start === undefined || end === undefined || end <= start) return null;
  return (
    <Button
      size="sm"
      variant="success"
      disabled={mode.busy}
      onClick={() => mode.judge(asked, { document, start, end }, 2)}
    >
      It answers
    </Button>
  );
}

/** Pictures that stand in a passage, in one row. */
export function Figures({ document, figures }: { document: number; figures: FigureData[] }) {
  if (!figures.length) return null;
  return (
    <div className="figure-row">
      {figures.map((figure) => (
        <Figure key={figure.number} document={document} figure={figure} small />
      ))}
    </div>
  );
}
