// What is wrong with a cut, list by list; each row leads to its place.
import { useState } from "react";
import type { ChunkFigures, Place } from "./api";
import { percent } from "../../text/numbers";

export interface Spot {
  document: number;
  start: number;
  end: number;
}
type Kind = keyof ChunkFigures["problems"];

export function Problems({ figures, show }: { figures: ChunkFigures; show: (spot: Spot) => void }) {
  const [kind, setKind] = useState<Kind>("answers");
  const broken = figures.spans.cut + figures.spans.spread + figures.spans.outside;
  const lists: [Kind, string, number][] = [
    ["answers", "answers not whole", broken],
    ["too_long", "too long", figures.too_long],
    ["inside", "mid-sentence", figures.inside],
    ["too_short", "too short", figures.too_short],
    ["twins", "nearly identical", figures.twins],
  ];
  const chosen = lists.find(([name]) => name === kind)!;
  return (
    <div className="problems">
      <div className="problem-tabs" role="tablist" aria-label="What is wrong">
        {lists.map(([name, label, count]) => (
          <button
            key={name}
            type="button"
            role="tab"
            aria-selected={name === kind}
            className={count ? "" : "none"}
            onClick={() => setKind(name)}
          >
            <b className="num">{count.toLocaleString()}</b> {label}
          </button>
        ))}
      </div>
      <div className="problem-list">
        {chosen[2] === 0 && <p className="small-text soft m-0">{NONE[kind]}</p>}
        {kind === "answers" &&
          figures.problems.answers.map((row, place) => (
            <Row
              key={place}
              title={row.text}
              detail={`${row.title}; ${
                row.state === "outside"
                  ? "in a section that was left out"
                  : `${row.pieces} pieces, the largest ${percent(row.best)} of it`
              }`}
              open={() => show({ document: row.document, start: row.start, end: row.start + 1 })}
            />
          ))}
        {kind === "twins" &&
          figures.problems.twins.map(({ one, other, alike }, place) => (
            <Row
              key={place}
              title={`${one.title} and ${other.title}`}
              detail={`${percent(alike)} of their word triples in common: ${one.text}`}
              open={() => show(other)}
            />
          ))}
        {(kind === "too_long" || kind === "too_short" || kind === "inside") &&
          figures.problems[kind].map((row: Place) => (
            <Row
              key={row.number}
              title={row.text}
              detail={`${row.title}, ${row.tokens} tokens`}
              open={() => show(row)}
            />
          ))}
        {chosen[2] > listed(figures, kind) && (
          <p className="small-text soft m-0">
            The first {listed(figures, kind)} of {chosen[2].toLocaleString()}.
          </p>
        )}
      </div>
    </div>
  );
}

const listed = (figures: ChunkFigures, kind: Kind) => figures.problems[kind].length;
const NONE: Record<Kind, string> = {
  answers: "Every labelled answer stands whole in one chunk.",
  too_long: "The encoder reads every chunk to its end.",
  inside: "Every chunk begins and ends where a sentence does.",
  too_short: "No chunk is so short that it says little on its own.",
  twins: "No two chunks say nearly the same.",
};

function Row({ title, detail, open }: { title: string; detail: string; open: () => void }) {
  return (
    <button type="button" className="problem" onClick={open}>
      <span>{title}</span>
      <span className="soft">{detail}</span>
    </button>
  );
}
