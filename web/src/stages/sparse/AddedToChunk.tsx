// The words that a chunk was given when it was indexed: every one can be read, and left out.
import { useState } from "react";
import { useBeside, useSay } from "../../before/beside";
import { Shown } from "../../shell/states";
import { score } from "../../text/numbers";
import { useAdded } from "./api";

export function AddedToChunk({ chunk, branch }: { chunk: number | null; branch: string }) {
  const [open, setOpen] = useState(false);
  const added = useAdded(chunk, branch, open);
  const { without } = useBeside();
  const say = useSay();
  if (chunk === null) return null;
  return (
    <section className="before mb-2">
      <button className="fold" aria-expanded={open} onClick={() => setOpen(!open)}>
        <span aria-hidden>{open ? "▾" : "▸"}</span> Words added to this chunk
      </button>
      {open && (
        <Shown query={added} what="Reading what was added">
          {(rows) => (
            <p className="chips">
              {rows.map(({ term, weight }) => (
                <button
                  key={term}
                  className="chip"
                  disabled={without.includes(term)}
                  title={`${term} counts for ${score(weight)} of an occurrence; a click searches without it`}
                  onClick={() => say({ without: [...without, term] })}
                >
                  {without.includes(term) ? <s>{term}</s> : term}{" "}
                  <span className="soft num">{score(weight)}</span>
                </button>
              ))}
              {rows.length === 0 && <span className="soft">None.</span>}
            </p>
          )}
        </Shown>
      )}
    </section>
  );
}
