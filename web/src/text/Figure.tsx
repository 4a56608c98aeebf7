// A picture of a document, as large as there is room for; without one that can be drawn, what is said in its place.
import { useState } from "react";
import type { Schemas } from "../api/client";
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
  return small ? shown : <CutOut>{shown}</CutOut>;
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
