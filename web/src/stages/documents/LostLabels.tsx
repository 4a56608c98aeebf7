// Labels that lost their place when their document changed or went: each waits until a person says where it belongs.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { useLostLabels, usePlaceLabel, type LostLabel } from "./api";
import { percent } from "../../text/numbers";

export function LostLabels() {
  const lost = useLostLabels();
  const [open, setOpen] = useState(false);
  const rows = lost.data ?? [];
  if (!rows.length) return null;
  return (
    <div className="notice lost-labels" style={{ "--tone": "var(--lost)" } as React.CSSProperties}>
      <div className="d-flex align-items-center gap-2">
        <span>
          <strong>
            {rows.length} label{rows.length > 1 && "s"} lost {rows.length > 1 ? "their" : "its"} place
          </strong>{" "}
          because a document changed or went. A question without a label is left out of trials.
        </span>
        <Button size="sm" variant="outline-primary" className="ms-auto" onClick={() => setOpen(!open)}>
          {open ? "Close" : "Look"}
        </Button>
      </div>
      {open && rows.map((row) => <Lost key={row.id} row={row} />)}
    </div>
  );
}

function Lost({ row }: { row: LostLabel }) {
  const place = usePlaceLabel();
  const { suggestion } = row;
  return (
    <div className="lost-label small-text">
      <strong>{row.text}</strong>
      <div>
        <span className="soft">{row.title} said:</span>{" "}
        <span className="serif">{row.quote || "the whole document"}</span>
      </div>
      {suggestion && (
        <div>
          <span className="soft">now, {percent(suggestion.alike)} of the words:</span>{" "}
          <span className="serif">{suggestion.text}</span>
        </div>
      )}
      {!suggestion && <div className="soft">Nothing in the documents is like it.</div>}
      <div className="d-flex gap-1 mt-1">
        {suggestion && row.document !== null && (
          <Button
            size="sm"
            disabled={place.isPending}
            onClick={() =>
              place.mutate({
                label: row.id,
                place: { document: row.document!, start: suggestion.start, end: suggestion.end },
              })
            }
          >
            This is the answer now
          </Button>
        )}
        <Button
          size="sm"
          variant="outline-danger"
          disabled={place.isPending}
          onClick={() => place.mutate({ label: row.id, place: null })}
        >
          Remove the label
        </Button>
        {place.error && <span className="lost">{place.error.message}</span>}
      </div>
    </div>
  );
}
